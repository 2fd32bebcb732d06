<script setup lang="ts">
/** The serving choice carries the lamp mark, everywhere. */
import type { ServingChoice } from '../api/shapes'
import { settingsText } from '../api/words'

defineProps<{ serving: ServingChoice | null }>()
</script>

<template>
  <span v-if="serving" v-tooltip.bottom="'Serving choice: answers searches that name no index'" class="lampmark" tabindex="0">
    <i class="pi pi-lightbulb" aria-hidden="true" />{{ serving.index }}<template v-if="serving.recall"> · recall {{ serving.recall }}</template><template v-else-if="settingsText(serving.settings)"> · {{ settingsText(serving.settings) }}</template>
  </span>
  <span v-else class="exact">exact scan</span>
</template>
