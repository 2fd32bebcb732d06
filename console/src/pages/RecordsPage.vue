<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import Select from 'primevue/select'
import { api, pathOf } from '../api/client'
import { useQuery } from '../api/query'
import { propertiesOf, type Record_ } from '../api/shapes'
import { count, leaves, plain, quoted, split } from '../api/words'
import { useCollection } from '../parts/collection'
import EqualCommands from '../parts/EqualCommands.vue'
import FailureNote from '../parts/FailureNote.vue'
import FilterBox from '../parts/FilterBox.vue'
import RecordText from '../parts/RecordText.vue'
import QueryState from '../parts/QueryState.vue'
import VectorStrip from '../parts/VectorStrip.vue'

const { collection } = useCollection()
const name = computed(() => collection.value.name)
const route = useRoute()
const router = useRouter()
const text = (v: unknown) => (typeof v === 'string' ? v : '')
const asked = computed(() => text(route.query.filter))
const open = computed(() => text(route.query.record))
const sort = computed(() => text(route.query.sort))
const filter = ref(asked.value)
watch([asked, sort], () => { filter.value = asked.value; trail.value = [null] })
/** What the list of orders calls the usual one; no field has this name. */
const KEY = 'key'
const orders = computed(() => {
  const fields = leaves(propertiesOf(collection.value.fields)).filter(([, p]) => p.type !== 'array' && !p.storedOnly)
  return [
    { label: 'key', value: KEY },
    ...fields.flatMap(([f]) => [{ label: `${f}, smallest first`, value: f }, { label: `${f}, largest first`, value: `-${f}` }]),
  ]
})

// A page at a time; the way back is remembered.
const trail = ref<(string | null)[]>([null])
const records = useQuery(
  () => [name.value, asked.value, sort.value, trail.value.length],
  (signal) => api.records(name.value, { after: trail.value.at(-1) ?? null, limit: 25, filter: asked.value, sort: sort.value }, signal),
  { keep: true },
)
const record = useQuery(
  () => [name.value, open.value],
  (signal) => (open.value ? api.record(name.value, open.value, signal) : Promise.resolve(null)),
)
const hasVector = computed(() => {
  const column = collection.value.default_column
  return !!column && !!record.data.value?.vectors?.[column]
})
const neighbours = useQuery(
  () => [name.value, open.value, hasVector.value],
  (signal) => (hasVector.value ? api.search(name.value, { examples: open.value, k: 5 }, signal) : Promise.resolve(null)),
)
/** The value of the field that the records are sorted by. */
function sorted(record: Record_): string {
  let value: unknown = record.fields
  for (const step of sort.value.replace('-', '').split('.')) value = (value as Record<string, unknown> | null | undefined)?.[step]
  return plain(value)
}
function go(filter: string, sort: string) {
  void router.push({ query: { ...(filter.trim() ? { filter } : {}), ...(sort ? { sort } : {}) } })
}
const show = (key: string) => router.push({ query: { ...route.query, record: key } })
function close() {
  const { record: _record, ...others } = route.query
  void router.push({ query: others })
}
const path = computed(() => `${pathOf(name.value)}/records?limit=25${sort.value ? `&sort=${encodeURIComponent(sort.value)}` : ''}${asked.value ? `&filter=${encodeURIComponent(asked.value)}` : ''}`)
</script>

<template>
  <div class="row spread">
    <h1>Records</h1>
    <div class="row">
      <Button size="small" text icon="pi pi-angle-left" label="Back" data-page="previous" :disabled="trail.length === 1" @click="trail = trail.slice(0, -1)" />
      <span class="soft">page {{ trail.length }}</span>
      <Button size="small" text icon="pi pi-angle-right" icon-pos="right" label="Next" data-page="next" :disabled="!records.data.value?.next" @click="trail = [...trail, records.data.value?.next ?? null]" />
    </div>
  </div>
  <form class="sheet row ask" @submit.prevent="go(filter, sort)">
    <FilterBox v-model="filter" :collection="name" :failure="records.failure.value" />
    <Button type="submit" size="small" label="Filter" />
    <label class="soft row">in order of <Select :model-value="sort || KEY" :options="orders" option-label="label" option-value="value" size="small" filter aria-label="Sort" data-sort @update:model-value="go(filter, $event === KEY ? '' : $event)" /></label>
    <RouterLink :to="{ path: `/c/${encodeURIComponent(name)}/fields`, query: asked ? { filter: asked } : {} }"><Button type="button" size="small" text label="Count the values" tabindex="-1" /></RouterLink>
  </form>
  <div :class="{ two: open }">
    <div>
      <FailureNote v-if="records.failure.value && records.failure.value.word !== 'invalid-filter'" :failure="records.failure.value" @retry="records.refresh" />
      <div v-if="records.data.value" class="sheet scroll">
        <DataTable v-if="records.data.value.records.length" :value="records.data.value.records" data-key="key" size="small" :row-class="(r: Record_) => (r.key === open ? 'on' : '')" data-records>
          <Column header="Key" class="nowrap"><template #body="{ data: r }: { data: Record_ }"><button type="button" class="key mono" @click="show(r.key)">{{ r.key }}</button></template></Column>
          <Column v-if="sort" :header="sort.replace('-', '')" class="num"><template #body="{ data: r }: { data: Record_ }">{{ sorted(r) }}</template></Column>
          <Column header="Record"><template #body="{ data: r }: { data: Record_ }"><RecordText :fields="r.fields" :short="!open" /></template></Column>
        </DataTable>
        <p v-else class="soft none">{{ asked ? 'No record fits the filter.' : 'No records yet.' }}</p>
      </div>
      <EqualCommands :zesty="`zesty record list ${quoted(name)} --limit 25${sort ? ` --sort ${quoted(sort)}` : ''}${asked ? ` --filter ${quoted(asked)}` : ''}`" method="GET" :path="path" />
    </div>
    <aside v-if="open" data-record>
      <QueryState v-slot="{ data: r }" :query="record">
        <div v-if="r" class="sheet">
          <div class="row spread"><strong class="mono">{{ r.key }}</strong><Button size="small" text icon="pi pi-times" aria-label="Close" @click="close" /></div>
          <div class="soft small">written at revision {{ count(r.revision) }}</div>
          <dl class="pairs"><template v-for="(v, k) in r.fields" :key="k"><dt>{{ k }}</dt><dd>{{ plain(v) }}</dd></template></dl>
          <template v-for="(v, column) in r.vectors" :key="column"><h2>{{ column }} <span class="soft normal">{{ v ? `${v.length} dimensions` : 'no vector' }}</span></h2><VectorStrip v-if="v" :vector="v" /></template>
          <template v-if="hasVector">
          <h2>Nearest</h2>
          <QueryState v-slot="{ data: n }" :query="neighbours">
            <div v-for="h in n?.hits ?? []" :key="h.key" class="near"><span class="num">{{ h.score.toFixed(4) }}</span><span><button type="button" class="key mono" @click="show(h.key)">{{ h.key }}</button><span class="soft small"> {{ split(h.fields).texts[0] }}</span></span></div>
          </QueryState>
          <RouterLink :to="{ path: `/c/${encodeURIComponent(name)}/search`, query: { example: r.key } }">search from this record</RouterLink>
          </template>
        </div>
      </QueryState>
    </aside>
  </div>
</template>

<style scoped>
.ask { margin: 0.6rem 0 0.8rem; }
.two { display: grid; grid-template-columns: minmax(0, 1fr) 27rem; gap: 1rem; align-items: start; }
aside { position: sticky; top: 0.6rem; max-height: 96vh; overflow: auto; }
.key { border: 0; background: none; padding: 0; color: var(--p-primary-color); cursor: pointer; white-space: nowrap; }
.key:hover { text-decoration: underline; }
.near { display: grid; grid-template-columns: 3.6rem minmax(0, 1fr); gap: 0.6rem; padding: 0.2rem 0; border-bottom: 1px solid var(--line); }
</style>
