<script setup lang="ts">
/** A vector as a strip: one bar a dimension, up for positive, down for negative. */
import { computed } from 'vue'

const props = defineProps<{ vector: number[] }>()
const most = computed(() => Math.max(...props.vector.map(Math.abs)) || 1)
const path = computed(() => props.vector.map((v, i) => `M${i + 0.5} 20V${(20 - (19 * v) / most.value).toFixed(2)}`).join(''))
</script>

<template>
  <svg :viewBox="`0 0 ${vector.length} 40`" preserveAspectRatio="none" role="img" :aria-label="`${vector.length} components between ${(-most).toFixed(3)} and ${most.toFixed(3)}`">
    <path :d="path" stroke="currentColor" stroke-width="0.9" fill="none" /><line x1="0" :x2="vector.length" y1="20" y2="20" stroke="var(--line)" stroke-width="0.4" />
  </svg>
  <div class="soft small">components from {{ Math.min(...vector).toFixed(3) }} to {{ Math.max(...vector).toFixed(3) }}</div>
</template>

<style scoped>
svg { width: 100%; height: 3.2rem; color: var(--p-primary-color); background: var(--tint); border-radius: 4px; }
.small { font-size: 0.88em; }
</style>
