<script setup lang="ts">
/** A sweep as a file: its points as CSV, all of it as JSON. */
import Button from 'primevue/button'
import type { Sweep } from '../api/shapes'
import { download } from './download'

const props = defineProps<{ sweep: Sweep }>()

function csv() {
  const { points, indexes } = props.sweep.result
  const figures = ['recall_mean', 'recall_p5', 'recall_min', 'recall_ties_mean', 'standout_recall', 'gap_mean', 'gap_p95', 'p50_us', 'p95_us', 'p99_us', 'distances_per_query'] as const
  const head = ['index', 'recipe', 'query_set', 'k', 'clients', 'beam', 'visit', 'rescore', 'recall_low', 'recall_high', ...figures, 'queries_per_s']
  const cell = (v: unknown) => (typeof v === 'string' && /[",\n]/.test(v) ? `"${v.replaceAll('"', '""')}"` : (v ?? ''))
  const rows = points.map((p) => [
    p.index, indexes.find((i) => i.name === p.index)?.recipe, p.query_set, p.k, p.clients, p.settings.beam, p.settings.visit, p.settings.rescore,
    p.figures.recall_interval.low, p.figures.recall_interval.high, ...figures.map((f) => p.figures[f]), p.queries_per_s,
  ].map(cell).join(','))
  download(`sweep-${props.sweep.id}.csv`, [head.join(','), ...rows, ''].join('\n'), 'text/csv')
}
const json = () => download(`sweep-${props.sweep.id}.json`, JSON.stringify(props.sweep, null, 2), 'application/json')
</script>

<template>
  <Button size="small" text icon="pi pi-download" label="CSV" @click="csv" />
  <Button size="small" text icon="pi pi-download" label="JSON" @click="json" />
</template>
