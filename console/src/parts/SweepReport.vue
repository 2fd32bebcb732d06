<script setup lang="ts">
/** What a sweep gave: the frontier, every point, and for one point the queries behind its mean. */
import { computed, defineAsyncComponent, ref, watch } from 'vue'
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import { useToast } from 'primevue/usetoast'
import { useAction } from '../api/action'
import { api } from '../api/client'
import type { Settings, Sweep, SweepPoint } from '../api/shapes'
import { bytes, count, micros, pointText, recallText, seconds, settingsText } from '../api/words'
import { indexColour } from '../charts/palette'
import { useCollection } from './collection'
import FailureNote from './FailureNote.vue'

const FrontierChart = defineAsyncComponent(() => import('../charts/FrontierChart.vue'))
const HistogramChart = defineAsyncComponent(() => import('../charts/HistogramChart.vue'))

const props = defineProps<{ sweep: Sweep }>()
const { collection, put } = useCollection()
const toast = useToast()
const result = computed(() => props.sweep.result)
const several = computed(() => result.value.indexes.length > 1)

const serving = computed(() => collection.value.columns.find((c) => c.name === props.sweep.column)?.serving ?? null)
/** Of settings, those that the point was measured with. */
const only = (s: Settings, p: SweepPoint): Settings => Object.fromEntries(Object.keys(p.settings).map((w) => [w, s[w as keyof Settings]]))
const isServing = (p: SweepPoint) => serving.value?.index === p.index && !serving.value.recall && settingsText(only(serving.value.settings, p)) === settingsText(p.settings)
const exists = (p: SweepPoint) => collection.value.indexes.some((i) => i.name === p.index && i.state === 'ready')
const serve = useAction(async (p: SweepPoint) => {
  put(await api.serve(collection.value.name, props.sweep.column, { index: p.index, settings: p.settings }))
  toast.add({ severity: 'success', summary: `Searches now use ${p.index} with ${settingsText(p.settings)}`, detail: `measured recall ${recallText(p.figures.recall_mean)}, p50 ${micros(p.figures.p50_us)}`, life: 4000 })
})

/** The point whose queries are shown: the first that reaches 0.95, until another one is picked. */
const picked = ref<SweepPoint | null>(null)
watch(() => props.sweep.id, () => { picked.value = null })
const shown = computed(() => picked.value ?? result.value.points.find((p) => p.figures.recall_mean >= 0.95) ?? result.value.points.at(-1) ?? null)
const exactOf = (p: SweepPoint) => result.value.query_sets.find((s) => s.name === p.query_set)?.exact
const timesExact = (p: SweepPoint) => {
  const exact = exactOf(p)
  const ratio = exact ? p.queries_per_s / exact.queries_per_s : 0
  return exact ? ratio.toFixed(ratio < 10 ? 1 : 0) : ''
}
const below = (p: SweepPoint) => p.figures.histogram.slice(0, -1).reduce((a, b) => a + b, 0)
const keyOf = (p: SweepPoint) => [p.index, p.query_set, p.k, p.clients, settingsText(p.settings)].join('|')
const alike = (p: SweepPoint) => p.like.map((i) => result.value.points[i]).filter((o) => o !== undefined).map((o) => `${several.value ? `${o.index} ` : ''}${pointText(o, props.sweep)}`).join('; ')
const lensOf = (p: SweepPoint, position: number) => ({ path: `/c/${encodeURIComponent(collection.value.name)}/lens`, query: { set: p.query_set, position, index: p.index, k: p.k, ...p.settings } })
const colour = computed(() => indexColour(Math.max(0, result.value.indexes.findIndex((i) => i.name === shown.value?.index))))
</script>

<template>
  <FailureNote v-if="serve.failure.value" :failure="serve.failure.value" :again="false" />
  <p v-if="sweep.stale" class="note" data-stale><i class="pi pi-history" aria-hidden="true" /> The collection has changed since this was measured. Run the sweep again to see what holds now.</p>
  <p v-if="result.cut" class="note"><i class="pi pi-stop-circle" aria-hidden="true" /> The sweep was cancelled. These are the points that were whole by then.</p>
  <p v-for="n in result.notices" :key="n.code" class="note"><i class="pi pi-info-circle" aria-hidden="true" /> {{ n.text }}</p>
  <div class="sheet chart" data-chart><FrontierChart :sweep="sweep" :served="isServing" @pick="(p) => (picked = p)" /></div>
  <div class="sheet gap">
    <DataTable :value="result.points" :data-key="keyOf" size="small" scrollable selection-mode="single" :selection="shown" :row-class="(p: SweepPoint) => (isServing(p) ? 'serves' : '')" data-points @update:selection="(p: SweepPoint | null) => (picked = p)">
      <Column v-if="several" header="Index" field="index" sortable class="nowrap"><template #body="{ data: p }: { data: SweepPoint }"><span class="dot" :style="{ background: indexColour(result.indexes.findIndex((i) => i.name === p.index)) }" aria-hidden="true" /> {{ p.index }}</template></Column>
      <Column v-if="result.query_sets.length > 1" header="Queries" field="query_set" sortable class="nowrap" />
      <Column header="Settings" class="nowrap"><template #body="{ data: p }: { data: SweepPoint }"><strong>{{ pointText(p, sweep) }}</strong> <span v-if="p.like.length" v-tooltip.bottom="`Neither recall nor latency tells it from ${alike(p)}`" class="soft" tabindex="0" aria-label="Not told apart">≈</span></template></Column>
      <Column header="Recall" field="figures.recall_mean" sortable class="num approx"><template #body="{ data: p }: { data: SweepPoint }">{{ recallText(p.figures.recall_mean) }}</template></Column>
      <Column class="num"><template #header><span v-tooltip.bottom="'Where the mean of all queries of this kind lies, in 19 of 20 cases (bootstrap over queries)'" tabindex="0">19 of 20 in</span></template><template #body="{ data: p }: { data: SweepPoint }"><span class="soft">{{ p.figures.recall_interval.low.toFixed(3) }} to {{ p.figures.recall_interval.high.toFixed(3) }}</span></template></Column>
      <Column header="p5" field="figures.recall_p5" sortable class="num"><template #body="{ data: p }: { data: SweepPoint }">{{ p.figures.recall_p5.toFixed(2) }}</template></Column>
      <Column header="Min" class="num"><template #body="{ data: p }: { data: SweepPoint }">{{ p.figures.recall_min.toFixed(2) }}</template></Column>
      <Column class="num"><template #header><span v-tooltip.bottom="'Recall among true neighbours that are clearly nearer than the k-th: a miss there is a loss, a miss in a flat tail is not'" tabindex="0">Standout</span></template><template #body="{ data: p }: { data: SweepPoint }">{{ p.figures.standout_recall === null ? 'none' : recallText(p.figures.standout_recall) }}</template></Column>
      <Column class="num"><template #header><span v-tooltip.bottom="'How much farther the hits are than the true ones: the mean over queries'" tabindex="0">Gap</span></template><template #body="{ data: p }: { data: SweepPoint }">{{ (p.figures.gap_mean * 100).toFixed(2) }}%</template></Column>
      <Column header="p50" field="figures.p50_us" sortable class="num"><template #body="{ data: p }: { data: SweepPoint }">{{ micros(p.figures.p50_us) }}</template></Column>
      <Column header="p99" class="num"><template #body="{ data: p }: { data: SweepPoint }">{{ micros(p.figures.p99_us) }}</template></Column>
      <Column header="Queries/s" field="queries_per_s" sortable class="num"><template #body="{ data: p }: { data: SweepPoint }">{{ count(p.queries_per_s) }}</template></Column>
      <Column header="× exact" class="num"><template #body="{ data: p }: { data: SweepPoint }">{{ timesExact(p) }}</template></Column>
      <Column header="Distances" field="figures.distances_per_query" sortable class="num"><template #body="{ data: p }: { data: SweepPoint }">{{ count(p.figures.distances_per_query) }}</template></Column>
      <Column class="num nowrap"><template #body="{ data: p }: { data: SweepPoint }"><span v-if="isServing(p)" class="lampmark" data-served><i class="pi pi-lightbulb" aria-hidden="true" />serving</span><Button v-else size="small" text label="Serve" class="slim" :disabled="!exists(p)" :aria-label="`Serve ${several ? `${p.index} ` : ''}with ${settingsText(p.settings)}`" @click.stop="serve.run(p)" /></template></Column>
    </DataTable>
    <p v-for="s in result.query_sets" :key="s.name" class="soft foot">
      <strong>{{ s.name }}</strong> ({{ s.kind }}): {{ count(s.n_queries) }} queries among {{ count(s.n_rows) }} records<template v-if="s.n_held_out">; {{ count(s.n_held_out) }} records were held out in parts, so no index has seen the queries</template><template v-if="s.n_left_out">; {{ count(s.n_left_out) }} queries were left out, because an index may have seen them</template>.
      <span v-if="s.exact" class="exact">Exact scan: p50 {{ micros(s.exact.p50_us) }}, p99 {{ micros(s.exact.p99_us) }}, {{ count(s.exact.queries_per_s) }} queries/s.</span>
    </p>
  </div>
  <div v-if="shown" class="pair gap" data-behind>
    <section class="sheet">
      <h2 class="first">Behind the mean: {{ shown.index }}, {{ pointText(shown, sweep) }}</h2>
      <p class="soft none">{{ count(below(shown)) }} of {{ count(below(shown) + (shown.figures.histogram.at(-1) ?? 0)) }} queries of {{ shown.query_set }} did not find all of their true {{ shown.k }}.</p>
      <HistogramChart :histogram="shown.figures.histogram" :colour="colour" :name="`recall-${sweep.id}`" />
    </section>
    <section class="sheet">
      <h2 class="first">Worst queries</h2>
      <DataTable v-if="shown.worst.length" :value="shown.worst" data-key="position" size="small" scrollable scroll-height="260px" data-worst>
        <Column header="Query" class="num"><template #body="{ data: w }: { data: { position: number } }"><RouterLink v-tooltip.bottom="'Look at it under the lens'" :to="lensOf(shown, w.position)">{{ w.position }}</RouterLink></template></Column>
        <Column header="Recall" class="num"><template #body="{ data: w }: { data: { recall: number } }">{{ w.recall.toFixed(2) }}</template></Column>
        <Column header="Farther by" class="num"><template #body="{ data: w }: { data: { gap: number } }">{{ (w.gap * 100).toFixed(1) }}%</template></Column>
      </DataTable>
      <p v-else class="soft none">Every query found all of its true {{ shown.k }}.</p>
    </section>
  </div>
  <div class="sheet gap">
    <DataTable :value="result.indexes" data-key="name" size="small" scrollable>
      <Column header="Index" field="name" class="nowrap" />
      <Column header="Recipe"><template #body="{ data: i }"><code>{{ i.recipe }}</code></template></Column>
      <Column header="Read throughout" class="num"><template #body="{ data: i }">{{ bytes(i.n_bytes_memory) }}</template></Column>
      <Column header="File, mapped" class="num"><template #body="{ data: i }">{{ bytes(i.n_bytes_file) }}</template></Column>
      <Column header="Built in" class="num"><template #body="{ data: i }">{{ seconds(i.build_seconds) }}</template></Column>
      <Column header="Newer records" class="num"><template #body="{ data: i }">{{ count(i.n_uncovered) }}</template></Column>
    </DataTable>
    <p class="soft foot">Revision {{ count(result.revision) }}; every point was measured in {{ sweep.spec.rounds ?? 3 }} rounds, in turns; {{ result.machine.cores }} cores of {{ result.machine.cpu }}, version {{ result.machine.version }}.</p>
  </div>
</template>

<style scoped>
.chart { padding: 0.6rem 0.4rem 0.2rem; }
:deep(.serves > td) { background: color-mix(in srgb, var(--lamp) 18%, transparent); }
:deep(.p-datatable-tbody > tr.p-datatable-row-selected) { background: var(--tint); color: var(--ink); }
.foot { margin: 0.5rem 0 0; font-size: 0.9em; }
.note { margin: 0.4rem 0; padding: 0.4rem 0.7rem; background: var(--tint); border: 1px solid var(--line); border-radius: 4px; }
.pair { display: grid; grid-template-columns: minmax(0, 3fr) minmax(0, 2fr); gap: 0.9rem; }
.first { margin-top: 0; }
.dot { display: inline-block; width: 0.65rem; height: 0.65rem; border-radius: 50%; }
</style>
