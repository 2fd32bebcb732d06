<script setup lang="ts">
import { computed, defineAsyncComponent } from 'vue'
import { useRoute } from 'vue-router'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import { api, pathOf } from '../api/client'
import { useQuery } from '../api/query'
import type { ComparedSide, Comparison, PairedTest } from '../api/shapes'
import { chanceText, count, micros, quoted, recallText, settingsText, sideText, when } from '../api/words'
import { useCollection } from '../parts/collection'
import EqualCommands from '../parts/EqualCommands.vue'
import JudgingPanel from '../parts/JudgingPanel.vue'
import QueryState from '../parts/QueryState.vue'
import ReportDownloads from '../parts/ReportDownloads.vue'

const OverlapChart = defineAsyncComponent(() => import('../charts/OverlapChart.vue'))

const { collection } = useCollection()
const name = computed(() => collection.value.name)
const route = useRoute()
const id = computed(() => Number(route.params.comparison))
const comparison = useQuery(() => id.value, (signal) => api.comparison(name.value, id.value, signal), { keep: true })
const command = (c: Comparison) => `zesty compare run ${quoted(name.value)} ${sideText(c.spec.left)} ${sideText(c.spec.right)} -k ${c.spec.k}${c.spec.query_set ? ` --queries ${quoted(c.spec.query_set)}` : ''}`
const answers = (s: ComparedSide) => (s.index ? [s.index, settingsText(s.settings)].filter(Boolean).join(', ') : 'the exact scan')
const verdict = (t: PairedTest) => (t.p >= 0.05 ? 'neither by more than chance' : t.left_better > t.right_better ? 'left is better' : 'right is better')
const tests = (c: Comparison) => [
  { what: 'Recall', test: c.result.by_recall, digits: 4 },
  ...(c.result.by_grades ? [{ what: 'nDCG', test: c.result.by_grades, digits: 4 }] : []),
  ...(c.result.distances ? [{ what: 'Nearness', test: c.result.distances.nearer, digits: 4 }] : []),
]
const rows = (c: Comparison) => [{ side: 'Left', of: c.result.left }, { side: 'Right', of: c.result.right }]
</script>

<template>
  <QueryState v-slot="{ data: c }" :query="comparison">
    <div class="row spread top"><ReportDownloads :id="c.id" class="last" :collection="name" kind="comparison" /><div><h1>Comparison {{ c.id }}: {{ answers(c.result.left) }} and {{ answers(c.result.right) }}</h1><div class="soft">{{ count(c.result.query_set.n_queries) }} queries of {{ c.result.query_set.name }}, k {{ c.spec.k }}, revision {{ c.result.revision }} · {{ when(c.created_at) }} · <RouterLink :to="`/c/${encodeURIComponent(name)}/compare`">all comparisons</RouterLink></div></div></div>
    <section class="sheet gap columns" data-comparison>
      <div>
        <DataTable :value="rows(c)" data-key="side" size="small">
          <Column header="Side" field="side" />
          <Column header="Answers"><template #body="{ data: r }">{{ answers(r.of) }}<div class="soft small">{{ r.of.column }}</div></template></Column>
          <Column header="Recall" class="num"><template #body="{ data: r }">{{ recallText(r.of.recall_mean) }}</template></Column>
          <Column v-if="c.result.left.graded" header="Hit rate" class="num"><template #body="{ data: r }">{{ r.of.graded?.hit_rate.toFixed(3) }}</template></Column>
          <Column v-if="c.result.left.graded" header="MRR" class="num"><template #body="{ data: r }">{{ r.of.graded?.mean_reciprocal_rank.toFixed(3) }}</template></Column>
          <Column v-if="c.result.left.graded" header="nDCG" class="num"><template #body="{ data: r }">{{ r.of.graded?.ndcg.toFixed(3) }}</template></Column>
          <Column header="p50" class="num"><template #body="{ data: r }">{{ micros(r.of.p50_us) }}</template></Column>
          <Column header="p95" class="num"><template #body="{ data: r }">{{ micros(r.of.p95_us) }}</template></Column>
          <Column header="p99" class="num"><template #body="{ data: r }">{{ micros(r.of.p99_us) }}</template></Column>
        </DataTable>
        <DataTable :value="tests(c)" data-key="what" size="small" class="gap">
          <Column header="By" field="what" />
          <Column header="Left better" class="num"><template #body="{ data: t }">{{ count(t.test.left_better) }}</template></Column>
          <Column header="Right better" class="num"><template #body="{ data: t }">{{ count(t.test.right_better) }}</template></Column>
          <Column header="Same" class="num"><template #body="{ data: t }">{{ count(t.test.same) }}</template></Column>
          <Column header="Left less right" class="num"><template #body="{ data: t }">{{ t.test.difference.toFixed(t.digits) }}</template></Column>
          <Column header="19 of 20 in" class="num"><template #body="{ data: t }">{{ t.test.interval.low.toFixed(t.digits) }} to {{ t.test.interval.high.toFixed(t.digits) }}</template></Column>
          <Column header="Sign test"><template #body="{ data: t }">{{ verdict(t.test) }}, {{ chanceText(t.test.p) }}</template></Column>
        </DataTable>
        <p class="soft none gap">
          Hits of both: {{ count(c.result.moves.same_rank) }} at the same rank, {{ count(c.result.moves.by_one) }} one rank apart, {{ count(c.result.moves.by_two_or_three) }} two or three, {{ count(c.result.moves.farther) }} more. Only left has {{ count(c.result.moves.left_alone) }}, only right {{ count(c.result.moves.right_alone) }}.
          <template v-if="c.result.finders">True neighbours: both found {{ count(c.result.finders.both) }}, only left {{ count(c.result.finders.left_alone) }}, only right {{ count(c.result.finders.right_alone) }}, neither {{ count(c.result.finders.neither) }}.</template>
          <template v-else>The sides search two columns: each has its own truth, and distances do not compare.</template>
          <template v-if="c.result.n_unknown_keys"> {{ count(c.result.n_unknown_keys) }} graded keys are not in the collection, and count as not found.</template>
          <template v-if="c.stale"> The collection has changed since.</template>
        </p>
        <p v-for="n in c.result.notices" :key="n.code" class="approx none">{{ n.text }}</p>
        <EqualCommands :zesty="command(c)" method="POST" :path="`${pathOf(name)}/comparisons`" :body="c.spec" />
      </div>
      <OverlapChart :comparison="c" />
    </section>
    <JudgingPanel :comparison="c" :names="[answers(c.result.left), answers(c.result.right)]" @judged="comparison.refresh()" />
  </QueryState>
</template>

<style scoped>
.top { align-items: start; }
.last { order: 1; }
.columns { display: grid; grid-template-columns: minmax(0, 3fr) minmax(0, 2fr); gap: 1.2rem; }
@media (max-width: 1000px) { .columns { grid-template-columns: 1fr; } }
</style>
