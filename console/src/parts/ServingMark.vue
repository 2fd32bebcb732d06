<script setup lang="ts">
/** The serving choice carries the lamp mark, everywhere. */
import type { Serving } from '../api/shapes'
import { settingsText } from '../api/words'

defineProps<{ serving: Serving | null }>()
</script>

<template>
  <span v-if="serving" class="lampmark" title="Serving choice: answers searches that name no index">
    <i class="pi pi-lightbulb" aria-hidden="true" />{{ serving.index }}<template v-if="settingsText(serving.settings)"> · {{ settingsText(serving.settings) }}</template>
  </span>
  <span v-else class="exact">exact scan</span>
</template>
