<script setup lang="ts">
import { computed, defineAsyncComponent, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import InputNumber from 'primevue/inputnumber'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { api, pathOf } from '../api/client'
import { useQuery } from '../api/query'
import type { LensRequest, Settings, TrueNeighbour } from '../api/shapes'
import { micros, quoted, settingsText } from '../api/words'
import { useCollection } from '../parts/collection'
import EqualCommands from '../parts/EqualCommands.vue'
import QueryState from '../parts/QueryState.vue'
import { useUrlQuery } from '../parts/url'

const CurveChart = defineAsyncComponent(() => import('../charts/CurveChart.vue'))

const { collection } = useCollection()
const name = computed(() => collection.value.name)
const { route, word, number } = useUrlQuery()
const router = useRouter()

// What is asked stands in the URL; the form edits it.
const ready = computed(() => collection.value.indexes.filter((i) => i.state === 'ready'))
const form = ref({ text: '', set: '', position: 0, index: '', k: 10, setting: null as number | null })
watch(() => route.query, () => {
  form.value = { text: word('text') || word('example'), set: word('set'), position: number('position') ?? 0, index: word('index') || (collection.value.columns[0]?.serving?.index ?? ready.value[0]?.name ?? ''), k: number('k') ?? 10, setting: number('beam') ?? number('visit') }
}, { immediate: true })
const byCells = computed(() => /(^|\| )cells/.test(ready.value.find((i) => i.name === form.value.index)?.recipe ?? ''))
const look = () => {
  const { text, set, position, index, k, setting } = form.value
  void router.push({ query: { ...(set ? { set, position } : word('example') === text && text ? { example: text } : { text }), index, k, ...(setting ? { [byCells.value ? 'visit' : 'beam']: setting } : {}), ...(word('rescore') ? { rescore: word('rescore') } : {}) } })
}
const asked = computed<LensRequest | null>(() => {
  const given: Settings = {}
  for (const key of ['beam', 'visit', 'rescore'] as const) if (number(key)) given[key] = number(key)
  const search = { k: number('k') ?? 10, ...(word('index') ? { index: word('index') } : {}), ...(Object.keys(given).length ? { settings: given } : {}), ...(word('filter') ? { filter: word('filter') } : {}) }
  if (word('set')) return { search, query_set: word('set'), position: number('position') ?? 0 }
  if (word('example')) return { search: { ...search, examples: word('example') } }
  return word('text') ? { search: { ...search, text: word('text') } } : null
})
const seen = useQuery(() => JSON.stringify(asked.value), (signal) => (asked.value ? api.lens(name.value, asked.value, signal) : Promise.resolve(null)))
const command = computed(() => {
  const s = asked.value?.search
  const what = word('set') ? `--query ${quoted(`${word('set')}:${word('position') || 0}`)}` : word('example') ? `--example ${quoted(word('example'))}` : quoted(word('text'))
  return `zesty lens ${quoted(name.value)} ${what}${s?.index ? ` --index ${quoted(s.index)}` : ''} -k ${s?.k ?? 10}${(['beam', 'visit', 'rescore'] as const).map((w) => (s?.settings?.[w] ? ` --${w} ${s.settings[w]}` : '')).join('')}`
})
const places = { 'in-a-cluster': 'in a cluster', 'at-the-edge': 'at the edge of a cluster', 'in-the-open': 'in the open, where searches fare worst' }
const fixed = (x: number) => x.toFixed(4)
const record = (key: string) => ({ path: `/c/${encodeURIComponent(name.value)}/search`, query: { example: key } })
</script>

<template>
  <div><h1>Lens</h1><div class="soft">One query: what the index missed, by how much, and which setting finds it.</div></div>
  <form class="sheet gap" @submit.prevent="look">
    <div class="row end">
      <div class="field grow"><label for="lens-text">{{ form.set ? 'Query of a set' : word('example') ? 'Record that asks' : 'Text' }}</label><InputText v-if="!form.set" id="lens-text" v-model="form.text" size="small" class="wide" /><span v-else class="row"><strong>{{ form.set }}</strong><InputNumber v-model="form.position" :min="0" size="small" input-id="lens-text" input-class="narrow num" /></span></div>
      <div class="field"><label id="li">Index</label><Select v-model="form.index" :options="ready.map((i) => i.name)" size="small" aria-labelledby="li" /></div>
      <div class="field"><label for="ls">{{ byCells ? 'Visit' : 'Beam' }}</label><InputNumber v-model="form.setting" :min="1" :max="100000" size="small" input-id="ls" input-class="narrow num" placeholder="usual" /></div>
      <div class="field"><label for="lk">k</label><InputNumber v-model="form.k" :min="1" :max="1000" size="small" input-id="lk" input-class="narrow num" /></div>
      <Button type="submit" size="small" icon="pi pi-search-plus" label="Look" :loading="seen.loading.value" data-look />
    </div>
    <EqualCommands v-if="asked" :zesty="command" method="POST" :path="`${pathOf(name)}/lens`" :body="asked" />
  </form>
  <QueryState v-slot="{ data: s }" :query="seen">
    <template v-if="s">
      <section class="sheet gap" data-lens>
        <p class="verdict">{{ s.index }} with {{ settingsText(s.settings) || 'no settings' }} found <strong :class="s.recall < 1 ? 'approx' : 'exact'">{{ s.truth.filter((t) => t.found_at !== null).length }} of {{ s.truth.length }}</strong><template v-if="s.gap > 0">; its hits are {{ (s.gap * 100).toFixed(2) }}% farther away</template><template v-if="s.standouts">; {{ s.standouts_found }} of {{ s.standouts }} that stand out were found</template>.</p>
        <p class="soft none"><template v-if="s.place">The query lies <strong>{{ places[s.place] }}</strong>: {{ fixed(s.curve[9] ?? 0) }} to its 10th neighbour, where records have {{ fixed(s.of_records?.p5 ?? 0) }} to {{ fixed(s.of_records?.p95 ?? 0) }}. </template>A typical record is {{ fixed(s.of_rows.p50) }} away. <template v-if="s.held_out">The record that asks was held out: the index has not seen it. </template>{{ s.distances }} distances, {{ micros(s.search_us) }}. <RouterLink :to="{ path: `/c/${encodeURIComponent(name)}/map`, query: route.query }">On the map</RouterLink></p>
        <CurveChart :seen="s" />
      </section>
      <section class="sheet gap">
        <DataTable :value="s.truth" data-key="rank" size="small" scrollable :row-class="(t: TrueNeighbour) => (t.found_at === null ? 'missed' : '')" data-truth>
          <Column header="True rank" field="rank" class="num exact" />
          <Column header="Record"><template #body="{ data: t }: { data: TrueNeighbour }"><RouterLink :to="record(t.key)">{{ t.key }}</RouterLink></template></Column>
          <Column header="Distance" class="num"><template #body="{ data: t }: { data: TrueNeighbour }">{{ fixed(t.distance) }}</template></Column>
          <Column header="Found at" class="num"><template #body="{ data: t }: { data: TrueNeighbour }"><span v-if="t.found_at !== null">{{ t.found_at }}</span><span v-else class="approx"><i class="pi pi-circle" aria-hidden="true" /> missed</span></template></Column>
          <Column header="Stands out"><template #body="{ data: t }: { data: TrueNeighbour }">{{ t.stands_out ? 'yes' : '' }}</template></Column>
          <Column header="Smallest setting that finds it"><template #body="{ data: t }: { data: TrueNeighbour }">{{ t.smallest ? settingsText(t.smallest) : 'none finds it' }}</template></Column>
        </DataTable>
        <p v-if="s.strays.length" class="soft foot">In their place: <span v-for="x in s.strays" :key="x.rank"><RouterLink :to="record(x.key)">{{ x.key }}</RouterLink> at {{ x.rank }} ({{ fixed(x.distance) }}) </span></p>
      </section>
    </template>
    <p v-else class="soft gap">Write a text above, or come here from a worst query of a sweep.</p>
  </QueryState>
</template>

<style scoped>
.end { align-items: end; }
.grow { flex: 1; min-width: 14rem; }
.wide { width: 100%; }
.verdict { margin: 0 0 0.3rem; font-size: 1.05rem; }
.foot { margin: 0.5rem 0 0; font-size: 0.9em; }
:deep(.missed > td) { background: color-mix(in srgb, var(--approx) 9%, transparent); }
:deep(.narrow) { width: 5.4rem; }
</style>
