<script setup lang="ts">
import { computed, defineAsyncComponent } from 'vue'
import { useRoute } from 'vue-router'
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import { useAction } from '../api/action'
import { api } from '../api/client'
import { useQuery } from '../api/query'
import type { Target } from '../api/shapes'
import { bytes, count, micros, quoted, recallText, seconds, settingsText, when } from '../api/words'
import { indexColour } from '../charts/palette'
import { useCollection } from '../parts/collection'
import EqualCommands from '../parts/EqualCommands.vue'
import FailureNote from '../parts/FailureNote.vue'
import QueryState from '../parts/QueryState.vue'
import ReportDownloads from '../parts/ReportDownloads.vue'
import { pathOf } from '../api/client'

const HistogramChart = defineAsyncComponent(() => import('../charts/HistogramChart.vue'))

const { collection, put } = useCollection()
const route = useRoute()
const id = computed(() => Number(route.params.target))
const target = useQuery(() => id.value, (signal) => api.target(collection.value.name, id.value, signal))
const tuning = computed(() => `/c/${encodeURIComponent(collection.value.name)}/tuning`)
const asked = (t: Target) => `${t.spec.aim === 'p5' ? '5th percentile' : 'mean'} of recall@${t.spec.k} at least ${t.spec.recall}`
const achieved = (t: Target) => (t.spec.aim === 'p5' ? t.result.achieved.recall_p5 : t.result.achieved.recall_mean)
const serving = (t: Target) => {
  const now = collection.value.columns.find((c) => c.name === t.column)?.serving
  return now?.index === t.spec.index && settingsText(now.settings) === settingsText(t.result.settings)
}
const serve = useAction(async (t: Target) => put(await api.serve(collection.value.name, t.column, { index: t.spec.index, settings: t.result.settings })))
const command = (t: Target) => `zesty target solve ${quoted(collection.value.name)} ${quoted(t.spec.index)} --recall ${t.spec.recall}${t.spec.aim === 'p5' ? ' --p5' : ''} -k ${t.spec.k}${t.spec.query_sets?.length ? ` --queries ${t.spec.query_sets.join(',')}` : ''}`
</script>

<template>
  <FailureNote v-if="serve.failure.value" :failure="serve.failure.value" :again="false" />
  <QueryState v-slot="{ data: t }" :query="target">
    <div class="row spread top"><ReportDownloads :id="t.id" class="last" :collection="collection.name" kind="target" /><div><h1>Target {{ t.id }}: {{ asked(t) }}</h1><div class="soft">{{ t.spec.index }} <code>{{ t.result.recipe }}</code> · {{ when(t.created_at) }} · <RouterLink :to="tuning">all of Tuning</RouterLink></div></div></div>
    <section class="sheet gap" data-verdict>
      <p class="verdict" :class="t.result.reached ? 'exact' : 'bad'"><i :class="t.result.reached ? 'pi pi-check-circle' : 'pi pi-times-circle'" aria-hidden="true" /> {{ t.result.reached ? 'Reached' : t.result.chosen_recall >= t.spec.recall && !t.result.instead ? 'Just missed: the half that chose reached it, the other half did not. Ask for a little more' : 'Not reached: this is the best there is' }}</p>
      <dl class="pairs">
        <dt>Settings</dt><dd><strong>{{ settingsText(t.result.settings) || 'none' }}</strong> <span v-if="serving(t)" class="lampmark"><i class="pi pi-lightbulb" aria-hidden="true" />serving</span><Button v-else size="small" text class="slim" label="Serve" :loading="serve.busy.value" @click="serve.run(t)" /></dd>
        <dt>Achieved</dt><dd><strong>{{ recallText(achieved(t)) }}</strong> on the half of {{ count(t.result.n_queries) }} queries that did not choose; the mean lies in {{ recallText(t.result.achieved.recall_interval.low) }} to {{ recallText(t.result.achieved.recall_interval.high) }}</dd>
        <dt>Latency</dt><dd>p50 {{ micros(t.result.achieved.p50_us) }}, p95 {{ micros(t.result.achieved.p95_us) }}, p99 {{ micros(t.result.achieved.p99_us) }}; {{ count(t.result.queries_per_s) }} queries/s</dd>
        <dt>On the half that chose</dt><dd>{{ recallText(t.result.chosen_recall) }}, after {{ t.result.tried.length }} settings</dd>
        <template v-if="t.result.instead"><dt>What could reach it</dt><dd><code>{{ t.result.instead.recipe }}</code>: {{ t.result.instead.why }}. About {{ bytes(t.result.instead.memory_bytes) }} of memory, {{ bytes(t.result.instead.file_bytes) }} of file, {{ seconds(t.result.instead.build_seconds) }} to build</dd></template>
        <template v-if="t.stale"><dt>Stale</dt><dd>The collection has changed since; solve it again to see what holds now</dd></template>
      </dl>
      <EqualCommands :zesty="command(t)" method="POST" :path="`${pathOf(collection.name)}/targets`" :body="t.spec" />
    </section>
    <section class="sheet gap">
      <h2 class="first">By query set, worst first</h2>
      <DataTable :value="t.result.sets" data-key="query_set" size="small" scrollable>
        <Column header="Query set" field="query_set" />
        <Column header="Queries" class="num"><template #body="{ data: s }">{{ count(s.n_queries) }}</template></Column>
        <Column header="Recall" class="num approx"><template #body="{ data: s }">{{ recallText(s.figures.recall_mean) }}</template></Column>
        <Column header="19 of 20 in" class="num"><template #body="{ data: s }">{{ s.figures.recall_interval.low.toFixed(3) }} to {{ s.figures.recall_interval.high.toFixed(3) }}</template></Column>
        <Column header="p5" class="num"><template #body="{ data: s }">{{ s.figures.recall_p5.toFixed(2) }}</template></Column>
        <Column header="Min" class="num"><template #body="{ data: s }">{{ s.figures.recall_min.toFixed(2) }}</template></Column>
        <Column header="Gap" class="num"><template #body="{ data: s }">{{ (s.figures.gap_mean * 100).toFixed(2) }}%</template></Column>
        <Column header="p50" class="num"><template #body="{ data: s }">{{ micros(s.figures.p50_us) }}</template></Column>
      </DataTable>
      <HistogramChart :histogram="t.result.achieved.histogram" :colour="indexColour(0)" :name="`target-${t.id}`" />
    </section>
  </QueryState>
</template>

<style scoped>
.top { align-items: start; }
.last { order: 1; }
.verdict { margin: 0 0 0.5rem; font-weight: 600; font-size: 1.05rem; }
.first { margin-top: 0; }
</style>
