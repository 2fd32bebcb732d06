<script setup lang="ts">
/** A CQL2 filter; what is wrong with it is shown in its place. */
import { computed } from 'vue'
import InputText from 'primevue/inputtext'
import type { Refusal } from '../api/client'

const text = defineModel<string>({ required: true })
const props = defineProps<{ failure: Refusal | null }>()
const wrong = computed(() => (props.failure?.word === 'invalid-filter' ? props.failure.at : null))
</script>

<template>
  <div class="filter">
    <InputText v-model="text" class="mono" size="small" :invalid="!!wrong" placeholder="Filter (CQL2): severity >= 4 AND station = 'Gull Rock'" aria-label="Filter" data-filter-box />
    <div v-if="wrong" class="pointer mono" role="alert" data-filter-error>
      <pre>{{ text }}
{{ ' '.repeat(wrong.column - 1) }}{{ '^'.repeat(Math.max(1, wrong.end - wrong.start)) }}</pre>
      <span>{{ wrong.message }}</span>
    </div>
  </div>
</template>

<style scoped>
.filter { flex: 1; min-width: 16rem; }
.filter :deep(input) { width: 100%; }
.pointer { color: var(--wrong); font-size: 0.92em; margin-top: 0.3rem; }
.pointer pre { margin: 0; padding-left: 0.6rem; white-space: pre; overflow-x: auto; }
</style>
