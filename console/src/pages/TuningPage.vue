<script setup lang="ts">
import { computed, defineAsyncComponent, ref, shallowRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import Button from 'primevue/button'
import InputNumber from 'primevue/inputnumber'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { useToast } from 'primevue/usetoast'
import { api, type Refusal } from '../api/client'
import { useJobs } from '../api/jobs'
import { useResource } from '../api/resource'
import type { Settings, Sweep, SweepPoint } from '../api/shapes'
import { count, mainSetting, micros, quoted, settingsText, when } from '../api/words'
import EqualCommands from '../parts/EqualCommands.vue'
import FailureNote from '../parts/FailureNote.vue'
import ResourceState from '../parts/ResourceState.vue'
import ServingMark from '../parts/ServingMark.vue'

const FrontierChart = defineAsyncComponent(() => import('../charts/FrontierChart.vue'))

const props = defineProps<{ name: string }>()
const route = useRoute()
const router = useRouter()
const toast = useToast()
const { follow } = useJobs()
const collection = useResource(() => props.name, () => api.collection(props.name))
const sweeps = useResource(() => props.name, () => api.sweeps(props.name))

const ready = computed(() => collection.data.value?.indexes.filter((i) => i.state === 'ready') ?? [])
const index = ref('')
watch(ready, (all) => { if (!all.some((i) => i.name === index.value)) index.value = all[0]?.name ?? '' })
const queries = ref(500)
const k = ref(10)
// Graphs are tuned by their beam, cells by how many are visited.
const tunedBy = computed<'beams' | 'visits'>(() => (/(^|\| )cells/.test(ready.value.find((i) => i.name === index.value)?.recipe ?? '') ? 'visits' : 'beams'))
const steps = ref({ beams: '10, 16, 24, 40, 64, 100, 160, 256', visits: '1, 2, 4, 8, 16, 32, 64' })
const list = computed(() => steps.value[tunedBy.value].split(/[\s,]+/).filter(Boolean).map(Number))
const asked = computed(() => ({ index: index.value, queries: queries.value, k: k.value, [tunedBy.value]: list.value, seed: 1 }))

const refused = shallowRef<Refusal | null>(null)
const measuring = ref(false)
async function run() {
  refused.value = null
  measuring.value = true
  try {
    const job = await follow(await api.sweep(props.name, asked.value))
    await sweeps.refresh()
    if (job.result?.sweep) await router.replace({ query: { sweep: String(job.result.sweep) } })
  } catch (error) {
    refused.value = error as Refusal
  } finally {
    measuring.value = false
  }
}

const shown = computed<Sweep | null>(() => {
  const all = sweeps.data.value ?? []
  return all.find((s) => String(s.id) === route.query.sweep) ?? all[0] ?? null
})
const column = computed(() => collection.data.value?.columns.find((c) => c.name === shown.value?.column) ?? null)
const isServing = (s: Sweep, p: SweepPoint) =>
  column.value?.serving?.index === s.index && heeded(column.value.serving.settings, p) === settingsText(p.settings)
/** Of settings, those that a point has. */
const heeded = (s: Settings, p: SweepPoint) => settingsText(Object.fromEntries(Object.keys(p.settings).map((w) => [w, s[w as keyof Settings]])))
const served = computed(() => {
  const point = shown.value?.result.points.find((p) => isServing(shown.value!, p))
  return point ? settingsText(point.settings) : ''
})
const exists = (s: Sweep) => ready.value.some((i) => i.name === s.index)

async function serve(s: Sweep, p: SweepPoint) {
  refused.value = null
  try {
    collection.data.value = await api.serve(props.name, s.column, { index: s.index, settings: p.settings })
    toast.add({ severity: 'success', summary: `Searches now use ${s.index} with ${settingsText(p.settings)}`, detail: `measured recall ${p.recall_mean.toFixed(4)}, p50 ${micros(p.p50_us)}`, life: 4000 })
  } catch (error) {
    refused.value = error as Refusal
  }
}

function csv(s: Sweep) {
  const columns = ['recall_mean', 'recall_p5', 'recall_min', 'recall_ties_mean', 'p50_us', 'p95_us', 'p99_us', 'queries_per_s', 'distances_per_query'] as const
  const rows = s.result.points.map((p) => [mainSetting(p.settings)[1], ...columns.map((c) => p[c])].join(','))
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([[mainSetting(s.result.points[0].settings)[0], ...columns].join(','), '\n', rows.join('\n'), '\n'], { type: 'text/csv' }))
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
    <div><h1>Tuning</h1><div class="soft">Recall and latency on the collection's own records, against the exact answer.</div></div>
    <div v-if="collection.data.value" class="row"><span class="soft">answers searches:</span><ServingMark v-for="c in collection.data.value.columns" :key="c.name" :serving="c.serving" /></div>
  </div>

  <ResourceState :resource="collection" v-slot="{ data: c }">
    <div v-if="!ready.length" class="sheet gap">
      <strong>No index to measure yet.</strong>
      <p class="soft">Build one on the <RouterLink :to="`/c/${encodeURIComponent(c.name)}/indexes`">indexes' page</RouterLink>, or run <code>zesty index build {{ c.name }}</code>.</p>
    </div>
    <form v-else class="sheet gap" @submit.prevent="run">
      <div class="row end">
        <div class="field"><label for="ix">Index</label><Select v-model="index" :options="ready.map((i) => i.name)" size="small" label-id="ix" /></div>
        <div class="field"><label for="q">Sampled queries</label><InputNumber v-model="queries" :min="1" :max="10000" size="small" input-id="q" input-class="narrow num" /></div>
        <div class="field"><label for="k">k</label><InputNumber v-model="k" :min="1" :max="1000" size="small" input-id="k" input-class="narrow num" /></div>
        <div class="field grow"><label for="b">{{ tunedBy === 'beams' ? 'Beams' : 'Cells visited' }}</label><InputText v-model="steps[tunedBy]" size="small" id="b" class="mono wide" /></div>
        <Button type="submit" size="small" icon="pi pi-chart-line" :label="measuring ? 'Measuring…' : 'Run sweep'" :loading="measuring" data-run-sweep />
      </div>
      <EqualCommands :zesty="`zesty sweep run ${quoted(name)} ${index} --queries ${queries} -k ${k} --${tunedBy} ${list.join(',')}`" method="POST" :path="`/api/collections/${encodeURIComponent(name)}/sweeps`" :body="asked" />
    </form>
  </ResourceState>
  <FailureNote v-if="refused" :failure="refused" :again="false" />

  <ResourceState :resource="sweeps" v-slot="{ data }">
    <template v-if="shown">
      <div class="row spread head">
        <h2>{{ shown.index }} <code class="soft normal">{{ shown.recipe }}</code></h2>
        <div class="row">
          <Select :model-value="shown.id" :options="data" option-value="id" :option-label="(s: Sweep) => `sweep ${s.id}: ${s.index}, ${when(s.created_at)}`" size="small" aria-label="Sweep" @update:model-value="(id: number) => router.replace({ query: { sweep: String(id) } })" />
          <Button size="small" text icon="pi pi-download" label="CSV" @click="csv(shown)" />
        </div>
      </div>
      <div class="sheet chart" data-chart><FrontierChart :sweep="shown" :serving="served" /></div>
      <div class="sheet scroll gap">
        <table class="plain" data-points>
          <thead>
            <tr><th class="num">Settings</th><th class="num">Recall@{{ shown.spec.k }} mean</th><th class="num">p5</th><th class="num">Minimum</th><th class="num" title="An equally near record counts as found: among exact duplicates no choice is a mistake">Ties counted</th><th class="num">Queries below 1</th><th class="num">p50</th><th class="num">p95</th><th class="num">p99</th><th class="num">Queries/s</th><th class="num">× exact</th><th class="num">Distances</th><th></th></tr>
          </thead>
          <tbody>
            <tr v-for="p in shown.result.points" :key="settingsText(p.settings)" :class="{ on: isServing(shown, p) }">
              <td class="num"><strong>{{ settingsText(p.settings) || 'none' }}</strong></td><td class="num approx">{{ p.recall_mean.toFixed(4) }}</td><td class="num">{{ p.recall_p5.toFixed(2) }}</td><td class="num">{{ p.recall_min.toFixed(2) }}</td><td class="num">{{ p.recall_ties_mean.toFixed(4) }}</td>
              <td class="num">{{ count(tail(p)) }} <span class="soft">of {{ count(shown.result.n_queries) }}</span></td>
              <td class="num">{{ micros(p.p50_us) }}</td><td class="num">{{ micros(p.p95_us) }}</td><td class="num">{{ micros(p.p99_us) }}</td><td class="num">{{ count(p.queries_per_s) }}</td><td class="num">{{ times(p.queries_per_s / shown.result.exact.queries_per_s) }}</td><td class="num">{{ count(p.distances_per_query) }}</td>
              <td class="num"><span v-if="isServing(shown, p)" class="lampmark" data-served><i class="pi pi-lightbulb" aria-hidden="true" />serving</span><Button v-else size="small" text label="Serve" class="slim" :disabled="!exists(shown)" :aria-label="`Serve with ${settingsText(p.settings)}`" @click="serve(shown, p)" /></td>
            </tr>
            <tr class="exactrow"><td class="num exact">exact</td><td class="num exact">1.0000</td><td class="num">1.00</td><td class="num">1.00</td><td class="num">1.0000</td><td></td><td class="num">{{ micros(shown.result.exact.p50_us) }}</td><td></td><td class="num">{{ micros(shown.result.exact.p99_us) }}</td><td class="num">{{ count(shown.result.exact.queries_per_s) }}</td><td class="num">1</td><td class="num">{{ count(shown.result.n_rows) }}</td><td></td></tr>
          </tbody>
        </table>
        <p class="soft foot">{{ count(shown.result.n_queries) }} records sampled from {{ count(shown.result.n_rows) }} at revision {{ count(shown.result.revision) }}; a record never counts as its own neighbour. The exact scan was timed on {{ shown.result.exact.queries }} of them.</p>
      </div>
    </template>
    <p v-else-if="ready.length" class="soft">No sweep yet. Run one above: it samples records, finds their exact neighbours, and measures each setting against them.</p>
  </ResourceState>
</template>

<style scoped>
.gap { margin-top: 0.9rem; }
.end { align-items: end; }
.grow { flex: 1; }
.wide { width: 100%; }
.head { margin-top: 0.6rem; }
.head h2 { margin: 0.6rem 0; }
.normal { font-weight: 400; }
.chart { padding: 0.6rem 0.4rem 0.2rem; }
.on td { background: color-mix(in srgb, var(--lamp) 18%, transparent); }
.slim { padding: 0 0.4rem; }
.foot { margin: 0.5rem 0 0; font-size: 0.9em; }
:deep(.narrow) { width: 5rem; }
</style>
