<script setup lang="ts">
import { computed, defineAsyncComponent, onScopeDispose } from 'vue'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import { api } from '../api/client'
import { useQuery } from '../api/query'
import type { IndexState, LaneState, PulseStep } from '../api/shapes'
import { bytes, count, micros, recallText, seconds } from '../api/words'
import QueryState from '../parts/QueryState.vue'

const PulseChart = defineAsyncComponent(() => import('../charts/PulseChart.vue'))

const pulse = useQuery(() => 0, api.pulse, { keep: true })
const again = window.setInterval(() => void pulse.refresh(), 5_000)
onScopeDispose(() => clearInterval(again))

/** The last whole minute. */
const minute = computed(() => {
  const p = pulse.data.value
  if (!p) return null
  const since = Date.now() - 60_000
  const last = p.steps.filter((s) => new Date(s.at).getTime() >= since)
  const sum = (of: (s: PulseStep) => number) => last.reduce((n, s) => n + of(s), 0)
  const worst = Math.max(...last.map((s) => s.p99_us ?? 0))
  return { searches: sum((s) => s.searches) / 60, refused: sum((s) => s.refused), failed: sum((s) => s.failed), p99: worst || null }
})
const jobs = computed(() => Object.entries(pulse.data.value?.jobs ?? {}).map(([kind, n]) => `${n} ${kind}`).join(', ') || 'none')
</script>

<template>
  <h1>Pulse</h1>
  <QueryState v-slot="{ data: p }" :query="pulse">
    <div class="soft">Node {{ p.node }}, up {{ seconds(p.up_s) }}. Read again every 5 seconds.</div>
    <dl class="cards gap" data-pulse>
      <div class="sheet"><dt>Searches, last minute</dt><dd>{{ (minute?.searches ?? 0).toFixed(1) }} <span>a second</span></dd></div>
      <div class="sheet"><dt>p99, worst 10 s of it</dt><dd>{{ minute?.p99 ? micros(minute.p99) : '–' }}</dd></div>
      <div class="sheet"><dt>Refused, too many</dt><dd :class="{ bad: minute?.refused }">{{ count(minute?.refused ?? 0) }}</dd></div>
      <div class="sheet"><dt>Failed</dt><dd :class="{ bad: minute?.failed }">{{ count(minute?.failed ?? 0) }}</dd></div>
      <div class="sheet"><dt>Database</dt><dd :class="{ bad: p.database_silent_s !== null }">{{ p.database_silent_s === null ? 'answers' : `silent for ${seconds(p.database_silent_s)}` }}</dd></div>
      <div class="sheet"><dt>Memory held</dt><dd>{{ bytes(p.n_bytes_collections + p.n_bytes_indexes) }} <span>{{ p.n_bytes_budget ? `of ${bytes(p.n_bytes_budget)}` : 'no limit' }}</span></dd></div>
      <div class="sheet"><dt>Jobs</dt><dd>{{ jobs }}</dd></div>
    </dl>
    <div class="sheet gap">
      <PulseChart v-if="p.steps.length" :steps="p.steps" :step-s="p.step_s" />
      <p v-else class="soft">Nothing was asked in the last hour.</p>
    </div>
    <div class="two gap">
      <section>
        <h2>Indexes</h2>
        <DataTable :value="p.indexes" size="small" scrollable>
          <Column header="Index"><template #body="{ data: i }: { data: IndexState }"><RouterLink :to="`/c/${encodeURIComponent(i.collection)}/indexes`">{{ i.collection }} / {{ i.name }}</RouterLink> <span v-if="i.serving" class="lampmark">serves</span></template></Column>
          <Column header="State"><template #body="{ data: i }: { data: IndexState }"><span :class="{ bad: i.state === 'failed' }">{{ i.state }}</span></template></Column>
          <Column header="Coverage" class="num"><template #body="{ data: i }: { data: IndexState }">{{ i.coverage === null ? '–' : `${(i.coverage * 100).toFixed(1)}%` }}</template></Column>
          <Column header="Observed recall" class="num approx"><template #body="{ data: i }: { data: IndexState }">{{ i.recall === null ? '–' : recallText(i.recall) }}</template></Column>
          <Column header="Checked, last hour" class="num"><template #body="{ data: i }: { data: IndexState }">{{ count(i.checked) }}</template></Column>
          <template #empty><span class="soft">No indexes.</span></template>
        </DataTable>
      </section>
      <section>
        <h2>Requests under way</h2>
        <DataTable :value="p.lanes" size="small" scrollable>
          <Column header="Kind" field="name" />
          <Column header="Now" class="num"><template #body="{ data: l }: { data: LaneState }">{{ l.depth }}</template></Column>
          <Column header="At most" class="num"><template #body="{ data: l }: { data: LaneState }">{{ l.most }}</template></Column>
          <Column header="Refused since start" class="num"><template #body="{ data: l }: { data: LaneState }"><span :class="{ bad: l.refused }">{{ count(l.refused) }}</span></template></Column>
        </DataTable>
      </section>
    </div>
  </QueryState>
</template>

<style scoped>
.cards { display: grid; grid-template-columns: repeat(auto-fit, minmax(9.5rem, 1fr)); gap: 0.7rem; margin-bottom: 0; }
.cards > div { padding: 0.55rem 0.8rem; }
dt { color: var(--soft); font-size: 0.88em; }
dd { margin: 0.1rem 0 0; font-size: 1.25em; font-weight: 600; font-variant-numeric: tabular-nums; white-space: nowrap; }
dd span { font-size: 0.7em; font-weight: 400; color: var(--soft); }
.two { display: grid; grid-template-columns: 3fr 2fr; gap: 1.6rem; }
@media (max-width: 900px) { .two { grid-template-columns: 1fr; } }
</style>
