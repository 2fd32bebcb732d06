<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import Button from 'primevue/button'
import Select from 'primevue/select'
import { api } from '../api/client'
import { useResource } from '../api/resource'
import { count, leaves, plain, quoted, split } from '../api/words'
import EqualCommands from '../parts/EqualCommands.vue'
import FailureNote from '../parts/FailureNote.vue'
import FilterBox from '../parts/FilterBox.vue'
import RecordText from '../parts/RecordText.vue'
import ResourceState from '../parts/ResourceState.vue'
import VectorStrip from '../parts/VectorStrip.vue'

const props = defineProps<{ name: string }>()
const route = useRoute()
const router = useRouter()
const text = (v: unknown) => (typeof v === 'string' ? v : '')
const asked = computed(() => text(route.query.filter))
const open = computed(() => text(route.query.record))
const sort = computed(() => text(route.query.sort))
const filter = ref(asked.value)
watch([asked, sort], () => { filter.value = asked.value; trail.value = [null] })
const collection = useResource(() => props.name, () => api.collection(props.name))
const orders = computed(() => {
  const fields = leaves(collection.data.value?.fields.properties ?? {}).filter(([, p]) => p.type !== 'array' && !p.storedOnly)
  return [
    { label: 'key', value: '' },
    ...fields.flatMap(([f]) => [{ label: `${f}, smallest first`, value: f }, { label: `${f}, largest first`, value: `-${f}` }]),
  ]
})

// A page at a time; the way back is remembered.
const trail = ref<(string | null)[]>([null])
const records = useResource(
  () => [props.name, asked.value, sort.value, trail.value.length],
  () => api.records(props.name, trail.value[trail.value.length - 1] ?? null, 25, asked.value, sort.value),
)
const record = useResource(() => [props.name, open.value], () => (open.value ? api.record(props.name, open.value) : Promise.resolve(null)))
const neighbours = useResource(
  () => [props.name, open.value],
  () => (open.value ? api.search(props.name, { like: open.value, k: 5 }) : Promise.resolve(null)),
)
function go(filter: string, sort: string) {
  void router.push({ query: { ...(filter.trim() ? { filter } : {}), ...(sort ? { sort } : {}) } })
}
const show = (key: string) => router.push({ query: { ...route.query, record: key } })
function close() {
  const { record: _, ...rest } = route.query
  void router.push({ query: rest })
}
const path = computed(() => `/api/collections/${encodeURIComponent(props.name)}/records?limit=25${sort.value ? `&sort=${encodeURIComponent(sort.value)}` : ''}${asked.value ? `&filter=${encodeURIComponent(asked.value)}` : ''}`)
</script>

<template>
  <div class="row spread">
    <h1>Records</h1>
    <div class="row">
      <Button size="small" text icon="pi pi-angle-left" label="Back" :disabled="trail.length === 1" @click="trail = trail.slice(0, -1)" />
      <span class="soft">page {{ trail.length }}</span>
      <Button size="small" text icon="pi pi-angle-right" icon-pos="right" label="Next" :disabled="!records.data.value?.next" @click="trail = [...trail, records.data.value!.next]" />
    </div>
  </div>
  <form class="sheet row ask" @submit.prevent="go(filter, sort)">
    <FilterBox v-model="filter" :collection="name" :failure="records.failure.value" />
    <Button type="submit" size="small" label="Filter" />
    <label class="soft row">in order of <Select :model-value="sort" :options="orders" option-label="label" option-value="value" size="small" filter aria-label="Sort" data-sort @update:model-value="go(filter, $event)" /></label>
    <RouterLink :to="{ path: `/c/${encodeURIComponent(name)}/fields`, query: asked ? { filter: asked } : {} }"><Button size="small" text label="Count the values" /></RouterLink>
  </form>
  <div :class="{ two: open }">
    <div>
      <FailureNote v-if="records.failure.value && records.failure.value.word !== 'invalid-filter'" :failure="records.failure.value" @retry="records.refresh" />
      <div v-if="records.data.value" class="sheet scroll">
        <table v-if="records.data.value.records.length" class="plain" data-records>
          <thead><tr><th>Key</th><th v-if="sort" class="num">{{ sort.replace('-', '') }}</th><th>Record</th></tr></thead>
          <tbody>
            <tr v-for="r in records.data.value.records" :key="r.key" :class="{ on: r.key === open }">
              <td><button type="button" class="key mono" @click="show(r.key)">{{ r.key }}</button></td>
              <td v-if="sort" class="num">{{ plain(sort.replace('-', '').split('.').reduce((v: any, step) => v?.[step], r.fields)) }}</td>
              <td><RecordText :fields="r.fields" :short="!open" /></td>
            </tr>
          </tbody>
        </table>
        <p v-else class="soft">{{ asked ? 'No record fits the filter.' : 'No records yet.' }}</p>
      </div>
      <EqualCommands :zesty="`zesty record list ${quoted(name)} --limit 25${sort ? ` --sort ${quoted(sort)}` : ''}${asked ? ` --filter ${quoted(asked)}` : ''}`" method="GET" :path="path" />
    </div>
    <aside v-if="open" data-record>
      <ResourceState :resource="record" v-slot="{ data: r }">
        <div v-if="r" class="sheet">
          <div class="row spread"><strong class="mono">{{ r.key }}</strong><Button size="small" text icon="pi pi-times" aria-label="Close" @click="close" /></div>
          <div class="soft small">written at revision {{ count(r.revision) }}</div>
          <table class="plain"><tbody><tr v-for="(v, k) in r.fields" :key="k"><td class="soft">{{ k }}</td><td>{{ plain(v) }}</td></tr></tbody></table>
          <template v-for="(v, column) in r.vectors" :key="column"><h2>{{ column }} <span class="soft normal">{{ v ? `${v.length} dimensions` : 'no vector' }}</span></h2><VectorStrip v-if="v" :vector="v" /></template>
          <h2>Nearest</h2>
          <ResourceState :resource="neighbours" v-slot="{ data: n }">
            <div v-for="h in n?.hits ?? []" :key="h.key" class="near"><span class="num">{{ h.score.toFixed(4) }}</span><span><button type="button" class="key mono" @click="show(h.key)">{{ h.key }}</button><span class="soft small"> {{ split(h.fields).texts[0] }}</span></span></div>
          </ResourceState>
          <RouterLink :to="{ path: `/c/${encodeURIComponent(name)}/search`, query: { like: r.key } }">search from this record</RouterLink>
        </div>
      </ResourceState>
    </aside>
  </div>
</template>

<style scoped>
.normal { font-weight: 400; font-size: 0.8em; }
.ask { margin: 0.6rem 0 0.8rem; }
.two { display: grid; grid-template-columns: minmax(0, 1fr) 27rem; gap: 1rem; align-items: start; }
aside { position: sticky; top: 0.6rem; max-height: 96vh; overflow: auto; }
.key { border: 0; background: none; padding: 0; color: var(--p-primary-color); cursor: pointer; white-space: nowrap; }
.key:hover { text-decoration: underline; }
.small { font-size: 0.9em; }
.on td { background: var(--tint); }
.near { display: grid; grid-template-columns: 3.6rem minmax(0, 1fr); gap: 0.6rem; padding: 0.2rem 0; border-bottom: 1px solid var(--line); }
</style>
