<script setup lang="ts">
/** The serving choice carries the lamp mark, everywhere. */
import type { Serving } from '../api/shapes'

defineProps<{ serving: Serving | null }>()
</script>

<template>
  <span v-if="serving" class="lampmark" title="Serving choice: answers searches that name no index">
    <i class="pi pi-lightbulb" aria-hidden="true" />{{ serving.index }} · beam {{ serving.settings.beam }}
  </span>
  <span v-else class="exact">exact scan</span>
</template>
