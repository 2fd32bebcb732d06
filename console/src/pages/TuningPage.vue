<script setup lang="ts">
import { computed, defineAsyncComponent, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import Button from 'primevue/button'
import Column from 'primevue/column'
import ColumnGroup from 'primevue/columngroup'
import DataTable from 'primevue/datatable'
import InputNumber from 'primevue/inputnumber'
import InputText from 'primevue/inputtext'
import Row from 'primevue/row'
import Select from 'primevue/select'
import { useToast } from 'primevue/usetoast'
import { useAction } from '../api/action'
import { api, pathOf } from '../api/client'
import { useJobs } from '../api/jobs'
import { useQuery } from '../api/query'
import { sweepOf, type Settings, type Sweep, type SweepPoint, type SweepRequest } from '../api/shapes'
import { count, mainSetting, micros, quoted, settingsText, when } from '../api/words'
import { useCollection } from '../parts/collection'
import EqualCommands from '../parts/EqualCommands.vue'
import FailureNote from '../parts/FailureNote.vue'
import QueryState from '../parts/QueryState.vue'
import ServingMark from '../parts/ServingMark.vue'

const FrontierChart = defineAsyncComponent(() => import('../charts/FrontierChart.vue'))

const { collection, put } = useCollection()
const name = computed(() => collection.value.name)
const route = useRoute()
const router = useRouter()
const toast = useToast()
const { follow } = useJobs()
const sweeps = useQuery(() => name.value, (signal) => api.sweeps(name.value, signal), { keep: true })

const ready = computed(() => collection.value.indexes.filter((i) => i.state === 'ready'))
const index = ref('')
watch(ready, (all) => { if (!all.some((i) => i.name === index.value)) index.value = all[0]?.name ?? '' }, { immediate: true })
const queries = ref(500)
const k = ref(10)
// Graphs are tuned by their beam, cells by how many are visited.
const tunedBy = computed<'beams' | 'visits'>(() => (/(^|\| )cells/.test(ready.value.find((i) => i.name === index.value)?.recipe ?? '') ? 'visits' : 'beams'))
const steps = ref({ beams: '10, 16, 24, 40, 64, 100, 160, 256', visits: '1, 2, 4, 8, 16, 32, 64' })
const list = computed(() => steps.value[tunedBy.value].split(/[\s,]+/).filter(Boolean).map(Number))
const asked = computed<SweepRequest>(() => ({ index: index.value, queries: queries.value, k: k.value, [tunedBy.value]: list.value, seed: 1 }))

const run = useAction(async () => {
  const job = await follow(await api.sweep(name.value, asked.value))
  await sweeps.refresh()
  const sweep = sweepOf(job)
  if (sweep !== null) await router.replace({ query: { sweep: String(sweep) } })
})

const shown = computed<Sweep | null>(() => {
  const all = sweeps.data.value ?? []
  return all.find((s) => String(s.id) === route.query.sweep) ?? all[0] ?? null
})
const column = computed(() => collection.value.columns.find((c) => c.name === shown.value?.column) ?? null)
const isServing = (s: Sweep, p: SweepPoint) => {
  const serving = column.value?.serving
  return serving?.index === s.index && settingsText(only(serving.settings, p)) === settingsText(p.settings)
}
/** Of settings, those that the point was measured with. */
const only = (s: Settings, p: SweepPoint): Settings => Object.fromEntries(Object.keys(p.settings).map((w) => [w, s[w as keyof Settings]]))
const served = computed(() => {
  const sweep = shown.value
  const point = sweep?.result.points.find((p) => isServing(sweep, p))
  return point ? settingsText(point.settings) : ''
})
const exists = (s: Sweep) => ready.value.some((i) => i.name === s.index)

const serve = useAction(async (s: Sweep, p: SweepPoint) => {
  put(await api.serve(name.value, s.column, { index: s.index, settings: p.settings }))
  toast.add({ severity: 'success', summary: `Searches now use ${s.index} with ${settingsText(p.settings)}`, detail: `measured recall ${p.recall_mean.toFixed(4)}, p50 ${micros(p.p50_us)}`, life: 4000 })
})

function csv(s: Sweep) {
  const columns = ['recall_mean', 'recall_p5', 'recall_min', 'recall_ties_mean', 'p50_us', 'p95_us', 'p99_us', 'queries_per_s', 'distances_per_query'] as const
  const rows = s.result.points.map((p) => [mainSetting(p.settings)[1], ...columns.map((c) => p[c])].join(','))
  const setting = s.result.points[0] ? mainSetting(s.result.points[0].settings)[0] : 'setting'
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([[setting, ...columns].join(','), '\n', rows.join('\n'), '\n'], { type: 'text/csv' }))
  link.download = `sweep-${s.id}-${s.index}.csv`
  link.click()
  URL.revokeObjectURL(link.href)
}
const times = (ratio: number) => ratio.toFixed(ratio < 10 ? 1 : 0)
/** Queries that found fewer than all: what a mean hides. */
const tail = (p: SweepPoint) => p.histogram.slice(0, -1).reduce((a, b) => a + b, 0)
</script>

<template>
  <div class="row spread">
    <div><h1>Tuning</h1><div class="soft">Recall and latency on the collection's own records, measured against the exact answer.</div></div>
    <div class="row"><span class="soft">answers searches:</span><ServingMark v-for="c in collection.columns" :key="c.name" :serving="c.serving" /></div>
  </div>

    <div v-if="!ready.length" class="sheet gap">
      <strong>No index to measure yet.</strong>
      <p class="soft">Build one on the <RouterLink :to="`/c/${encodeURIComponent(name)}/indexes`">page of indexes</RouterLink>, or run <code>zesty index build {{ name }}</code>.</p>
    </div>
    <form v-else class="sheet gap" @submit.prevent="run.run()">
      <div class="row end">
        <div class="field"><label id="ix">Index</label><Select v-model="index" :options="ready.map((i) => i.name)" size="small" aria-labelledby="ix" /></div>
        <div class="field"><label for="q">Sampled queries</label><InputNumber v-model="queries" :min="1" :max="10000" size="small" input-id="q" input-class="narrow num" /></div>
        <div class="field"><label for="k">k</label><InputNumber v-model="k" :min="1" :max="1000" size="small" input-id="k" input-class="narrow num" /></div>
        <div class="field grow"><label for="b">{{ tunedBy === 'beams' ? 'Beams' : 'Cells visited' }}</label><InputText id="b" v-model="steps[tunedBy]" size="small" class="mono wide" /></div>
        <Button type="submit" size="small" icon="pi pi-chart-line" :label="run.busy.value ? 'Measuring…' : 'Run sweep'" :loading="run.busy.value" data-run-sweep />
      </div>
      <EqualCommands :zesty="`zesty sweep run ${quoted(name)} ${index} --queries ${queries} -k ${k} --${tunedBy} ${list.join(',')}`" method="POST" :path="`${pathOf(name)}/sweeps`" :body="asked" />
    </form>
  <FailureNote v-if="run.failure.value" :failure="run.failure.value" :again="false" />
  <FailureNote v-if="serve.failure.value" :failure="serve.failure.value" :again="false" />

  <QueryState v-slot="{ data }" :query="sweeps">
    <template v-if="shown">
      <div class="row spread head">
        <h2>{{ shown.index }} <code class="soft normal">{{ shown.recipe }}</code></h2>
        <div class="row">
          <Select :model-value="shown.id" :options="data" option-value="id" :option-label="(s: Sweep) => `sweep ${s.id}: ${s.index}, ${when(s.created_at)}`" size="small" aria-label="Sweep" @update:model-value="(id: number) => router.replace({ query: { sweep: String(id) } })" />
          <Button size="small" text icon="pi pi-download" label="CSV" @click="csv(shown)" />
        </div>
      </div>
      <div class="sheet chart" data-chart><FrontierChart :sweep="shown" :serving="served" /></div>
      <div class="sheet gap">
        <DataTable :value="shown.result.points" :data-key="(p: SweepPoint) => settingsText(p.settings)" size="small" scrollable :row-class="(p: SweepPoint) => (shown && isServing(shown, p) ? 'serves' : '')" data-points>
          <Column header="Settings" class="num"><template #body="{ data: p }: { data: SweepPoint }"><strong>{{ settingsText(p.settings) || 'none' }}</strong></template></Column>
          <Column :header="`Recall@${shown.spec.k ?? 10} mean`" class="num approx"><template #body="{ data: p }: { data: SweepPoint }">{{ p.recall_mean.toFixed(4) }}</template></Column>
          <Column header="p5" class="num"><template #body="{ data: p }: { data: SweepPoint }">{{ p.recall_p5.toFixed(2) }}</template></Column>
          <Column header="Minimum" class="num"><template #body="{ data: p }: { data: SweepPoint }">{{ p.recall_min.toFixed(2) }}</template></Column>
          <Column class="num"><template #header><span v-tooltip.bottom="'A hit as near as the farthest true one counts as found. Among exact duplicates no choice is a mistake.'" tabindex="0">Ties counted</span></template><template #body="{ data: p }: { data: SweepPoint }">{{ p.recall_ties_mean.toFixed(4) }}</template></Column>
          <Column header="Queries below 1" class="num"><template #body="{ data: p }: { data: SweepPoint }">{{ count(tail(p)) }} <span class="soft">of {{ count(shown.result.n_queries) }}</span></template></Column>
          <Column header="p50" class="num"><template #body="{ data: p }: { data: SweepPoint }">{{ micros(p.p50_us) }}</template></Column>
          <Column header="p95" class="num"><template #body="{ data: p }: { data: SweepPoint }">{{ micros(p.p95_us) }}</template></Column>
          <Column header="p99" class="num"><template #body="{ data: p }: { data: SweepPoint }">{{ micros(p.p99_us) }}</template></Column>
          <Column header="Queries/s" class="num"><template #body="{ data: p }: { data: SweepPoint }">{{ count(p.queries_per_s) }}</template></Column>
          <Column header="× exact" class="num"><template #body="{ data: p }: { data: SweepPoint }">{{ times(p.queries_per_s / shown.result.exact.queries_per_s) }}</template></Column>
          <Column header="Distances" class="num"><template #body="{ data: p }: { data: SweepPoint }">{{ count(p.distances_per_query) }}</template></Column>
          <Column class="num nowrap"><template #body="{ data: p }: { data: SweepPoint }"><span v-if="isServing(shown, p)" class="lampmark" data-served><i class="pi pi-lightbulb" aria-hidden="true" />serving</span><Button v-else size="small" text label="Serve" class="slim" :disabled="!exists(shown)" :aria-label="`Serve with ${settingsText(p.settings)}`" @click="serve.run(shown, p)" /></template></Column>
          <ColumnGroup type="footer">
            <Row>
              <Column class="num exact" footer="exact" /><Column class="num exact" footer="1.0000" /><Column class="num" footer="1.00" /><Column class="num" footer="1.00" /><Column class="num" footer="1.0000" /><Column footer="" />
              <Column class="num" :footer="micros(shown.result.exact.p50_us)" /><Column footer="" /><Column class="num" :footer="micros(shown.result.exact.p99_us)" /><Column class="num" :footer="count(shown.result.exact.queries_per_s)" /><Column class="num" footer="1" /><Column class="num" :footer="count(shown.result.n_rows)" /><Column footer="" />
            </Row>
          </ColumnGroup>
        </DataTable>
        <p class="soft foot">{{ count(shown.result.n_queries) }} records sampled from {{ count(shown.result.n_rows) }} at revision {{ count(shown.result.revision) }}; a record never counts as its own neighbour. The exact scan was timed on {{ shown.result.exact.queries }} of them.</p>
      </div>
    </template>
    <p v-else-if="ready.length" class="soft">No sweep yet. Run one above: it samples records, finds their exact neighbours, and measures each setting against them.</p>
  </QueryState>
</template>

<style scoped>
.end { align-items: end; }
.grow { flex: 1; }
.wide { width: 100%; }
.head { margin-top: 0.6rem; }
.head h2 { margin: 0.6rem 0; }
.chart { padding: 0.6rem 0.4rem 0.2rem; }
:deep(.serves > td) { background: color-mix(in srgb, var(--lamp) 18%, transparent); }
.foot { margin: 0.5rem 0 0; font-size: 0.9em; }
:deep(.narrow) { width: 5rem; }
</style>
