<script setup lang="ts">
/** A CQL2 filter, as text and as conditions. An error is shown where it is; otherwise how many records the filter allows. */
import { computed, ref } from 'vue'
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { api } from '../api/client'
import type { Refusal } from '../api/http'
import { useQuery } from '../api/query'
import { count } from '../api/words'
import FilterBuilder from './FilterBuilder.vue'

const text = defineModel<string>({ required: true })
const props = defineProps<{ collection: string; failure: Refusal | null }>()
const open = ref(false)
const reading = useQuery(
  () => [props.collection, text.value],
  (signal) => (text.value.trim() ? api.readFilter(props.collection, text.value, signal) : Promise.resolve(null)),
  { rest: 250 },
)
const failed = computed(() => [props.failure, reading.failure.value].find((f) => f?.word === 'invalid-filter') ?? null)
const wrong = computed(() => (failed.value && !reading.data.value ? failed.value.at : null))
</script>

<template>
  <div class="filter">
    <div class="bar">
      <InputText v-model="text" class="mono" size="small" :invalid="!!wrong" placeholder="Filter (CQL2): severity >= 4 AND station = 'Gull Rock'" aria-label="Filter" data-filter-box />
      <Button type="button" size="small" text :icon="open ? 'pi pi-chevron-up' : 'pi pi-list'" label="Build" :aria-expanded="open" data-build-filter @click="open = !open" />
    </div>
    <!-- The line is there before the answer, so that nothing below moves under the pointer. -->
    <div v-if="text.trim() && !wrong" class="soft allows" data-filter-allows>{{ reading.data.value ? `allows ${count(reading.data.value.allowed)} of ${count(reading.data.value.of)} records` : '' }}</div>
    <div v-if="wrong" class="pointer mono" role="alert" data-filter-error>
      <pre v-if="wrong.column">{{ text }}
{{ ' '.repeat(wrong.column - 1) }}{{ '^'.repeat(Math.max(1, wrong.end - wrong.start)) }}</pre>
      <span>{{ wrong.message }}</span>
    </div>
    <FilterBuilder v-if="open" v-model="text" :collection="collection" />
  </div>
</template>

<style scoped>
.filter { flex: 1; min-width: 16rem; }
.bar { display: flex; gap: 0.3rem; }
.bar :deep(input) { flex: 1; }
.allows { font-size: 0.9em; line-height: 1.4; min-height: 1.4em; padding-left: 0.6rem; }
.pointer { color: var(--wrong); font-size: 0.92em; margin-top: 0.3rem; }
.pointer pre { margin: 0; padding-left: 0.6rem; white-space: pre; overflow-x: auto; }
</style>
