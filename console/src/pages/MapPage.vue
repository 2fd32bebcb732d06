<script setup lang="ts">
import { computed, defineAsyncComponent, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import Button from 'primevue/button'
import InputNumber from 'primevue/inputnumber'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { api, pathOf } from '../api/client'
import { useQuery } from '../api/query'
import { propertiesOf, type MapRequest } from '../api/shapes'
import { count, leaves, quoted } from '../api/words'
import { useCollection } from '../parts/collection'
import EqualCommands from '../parts/EqualCommands.vue'
import QueryState from '../parts/QueryState.vue'
import { useUrlQuery } from '../parts/url'

const MapChart = defineAsyncComponent(() => import('../charts/MapChart.vue'))

const { collection } = useCollection()
const name = computed(() => collection.value.name)
const { route, word, number } = useUrlQuery()
const router = useRouter()

/** Fields with one value a record. */
const fields = computed(() => leaves(propertiesOf(collection.value.fields)).filter(([, p]) => p.type !== 'array' && !p.storedOnly).map(([n]) => n))
const columns = computed(() => collection.value.columns.map((c) => c.name))
const column = computed(() => word('column') || (collection.value.default_column ?? columns.value[0] ?? ''))
const ready = computed(() => collection.value.indexes.filter((i) => i.state === 'ready' && i.column === column.value))
// What is drawn stands in the URL; the form edits it.
const form = ref({ field: null as string | null, text: '', index: null as string | null, setting: null as number | null, filter: '', records: 3000 })
watch(() => route.query, () => {
  form.value = { field: word('field') || null, text: word('text') || word('example'), index: word('index') || null, setting: number('beam') ?? number('visit'), filter: word('filter'), records: number('records') ?? 3000 }
}, { immediate: true })
const byCells = computed(() => /(^|\| )cells/.test(ready.value.find((i) => i.name === form.value.index)?.recipe ?? ''))
function draw(changed: Record<string, string> = {}) {
  const { field, text, index, setting, filter, records } = form.value
  const asks = word('set') && !text ? { set: word('set'), position: word('position') } : word('example') === text && text ? { example: text } : text ? { text } : {}
  void router.push({ query: { ...(column.value !== collection.value.default_column ? { column: column.value } : {}), ...(field ? { field } : {}), ...asks, ...(index ? { index } : {}), ...(setting ? { [byCells.value ? 'visit' : 'beam']: setting } : {}), ...(filter ? { filter } : {}), ...(records !== 3000 ? { records } : {}), ...changed } })
}
const asked = computed<MapRequest>(() => {
  const settings = { ...(number('beam') ? { beam: number('beam') } : {}), ...(number('visit') ? { visit: number('visit') } : {}) }
  const search = { k: number('k') ?? 10, column: column.value, ...(word('index') ? { index: word('index') } : {}), ...(Object.keys(settings).length ? { settings } : {}), ...(word('filter') ? { filter: word('filter') } : {}) }
  const query = word('set') ? { search: { ...search, column: undefined }, query_set: word('set'), position: number('position') ?? 0 }
    : word('example') ? { search: { ...search, examples: word('example') } }
      : word('text') ? { search: { ...search, text: word('text') } } : undefined
  return { column: column.value, records: number('records') ?? 3000, ...(word('field') ? { field: word('field') } : {}), ...(word('filter') ? { filter: word('filter') } : {}), ...(query ? { query } : {}) }
})
const map = useQuery(() => JSON.stringify([name.value, asked.value]), (signal) => api.map(name.value, asked.value, signal), { keep: true })
const command = computed(() => {
  const what = word('set') ? ` --query ${quoted(`${word('set')}:${word('position') || 0}`)}` : word('example') ? ` --example ${quoted(word('example'))}` : word('text') ? ` ${quoted(word('text'))}` : ''
  return `zesty map ${quoted(name.value)}${what}${(['field', 'index', 'beam', 'visit', 'records', 'column', 'filter'] as const).map((w) => (word(w) ? ` --${w} ${quoted(word(w))}` : '')).join('')}`
})
const missed = computed(() => map.data.value?.query?.neighbours.filter((n) => n.true_rank !== null && n.found_at === null).length ?? 0)
const pick = (key: string) => { form.value.text = key; void router.push({ query: { ...route.query, text: undefined, set: undefined, position: undefined, example: key } }) }
</script>

<template>
  <div><h1>Map</h1><div class="soft">The column along the two directions in which its vectors differ most. Click a record to see what is near it.</div></div>
  <form class="sheet gap" @submit.prevent="draw()">
    <div class="row end">
      <div v-if="columns.length > 1" class="field"><label id="mcol">Column</label><Select :model-value="column" :options="columns" size="small" aria-labelledby="mcol" @update:model-value="(c: string) => { form.index = null; draw({ column: c }) }" /></div>
      <div class="field"><label id="mfield">Colour by</label><Select v-model="form.field" :options="fields" size="small" placeholder="nothing" show-clear aria-labelledby="mfield" @change="draw()" /></div>
      <div class="field grow"><label for="mtext">{{ word('example') ? 'Record that asks' : word('set') && !form.text ? `Query ${word('position')} of ${word('set')}, or a text` : 'A query, if any' }}</label><InputText id="mtext" v-model="form.text" size="small" class="wide" /></div>
      <div class="field"><label id="mix">Index</label><Select v-model="form.index" :options="ready.map((i) => i.name)" size="small" placeholder="that serves" show-clear aria-labelledby="mix" /></div>
      <div class="field"><label for="mset">{{ byCells ? 'Visit' : 'Beam' }}</label><InputNumber v-model="form.setting" :min="1" :max="100000" size="small" input-id="mset" input-class="narrow num" placeholder="usual" /></div>
      <div class="field"><label for="mfil">Filter</label><InputText id="mfil" v-model="form.filter" size="small" class="mono" placeholder="CQL2" /></div>
      <div class="field"><label for="mrec">Records</label><InputNumber v-model="form.records" :min="1" :max="20000" size="small" input-id="mrec" input-class="narrow num" /></div>
      <Button type="submit" size="small" icon="pi pi-map" label="Draw" :loading="map.loading.value" data-draw />
    </div>
    <EqualCommands :zesty="command" method="POST" :path="`${pathOf(name)}/map`" :body="asked" />
  </form>
  <QueryState v-slot="{ data: m }" :query="map">
    <section class="sheet gap" data-map>
      <p class="soft none">{{ count(m.points.length) }} of {{ count(m.n_rows) }} records. The two directions hold {{ ((m.explained[0] + m.explained[1]) * 100).toFixed(1) }}% of the variance: what looks near may be far. <template v-if="m.query"><strong>{{ m.query.index }}</strong> found {{ m.query.neighbours.filter((n) => n.true_rank !== null).length - missed }} of the true {{ m.query.neighbours.filter((n) => n.true_rank !== null).length }}.</template></p>
      <MapChart :map="m" :name="`map-${name}-${m.column}`" @pick="pick" />
    </section>
  </QueryState>
</template>

<style scoped>
.end { align-items: end; }
.grow { flex: 1; min-width: 11rem; }
.wide { width: 100%; }
:deep(.narrow) { width: 5rem; }
</style>
