<script setup lang="ts">
/** A record as one reads it: its long texts, then its short values in a line. */
import { computed } from 'vue'
import { split } from '../api/words'

const props = defineProps<{ fields: Record<string, unknown>; short?: boolean }>()
const parts = computed(() => split(props.fields))
</script>

<template>
  <div v-for="t in parts.texts" :key="t">{{ t }}</div>
  <div v-if="short" class="soft short"><span v-for="[k, v] in parts.short" :key="k">{{ k }} <b>{{ v }}</b></span></div>
</template>

<style scoped>
.short { font-size: 0.9em; line-height: 1.35; margin-top: 0.1rem; display: flex; flex-wrap: wrap; gap: 0 0.75rem; }
.short span { white-space: nowrap; }
.short b { color: var(--ink); font-weight: 500; }
</style>
