<script setup lang="ts">
/** Records in two dimensions, coloured by a field: words by a hue each, numbers and times from light to dark. */
import { computed } from 'vue'
import VChart from 'vue-echarts'
import { use } from 'echarts/core'
import { ScatterChart } from 'echarts/charts'
import { DataZoomComponent, GridComponent, LegendComponent, ToolboxComponent, TooltipComponent, VisualMapComponent } from 'echarts/components'
import { CanvasRenderer } from 'echarts/renderers'
import type { MapAnswer, MapPoint } from '../api/shapes'
import { count, plain } from '../api/words'
import { style, useTheme } from './palette'

use([ScatterChart, DataZoomComponent, GridComponent, LegendComponent, ToolboxComponent, TooltipComponent, VisualMapComponent, CanvasRenderer])

const props = defineProps<{ map: MapAnswer; name: string }>()
const emit = defineEmits<{ pick: [key: string] }>()
const tick = useTheme()

const HUES = ['#5b6fb5', '#b5655b', '#6b7f2e', '#a04d7e', '#c28f2c', '#3d7f9c', '#8a6a4f', '#7b5ea7', '#4f9a6a', '#d07fa8', '#7f8c8d']
const isScale = (v: unknown) => typeof v === 'number' || (typeof v === 'string' && /^\d{4}-\d\d-\d\d/.test(v))
const scaled = (v: unknown) => (typeof v === 'number' ? v : Date.parse(String(v)))

const option = computed(() => {
  void tick.value
  const [ink, soft, line, sheet, teal, amber] = ['--ink', '--soft', '--line', '--sheet', '--exact', '--approx'].map(style)
  const { points, query, field, explained } = props.map
  const axis = (i: 0 | 1) => ({ type: 'value', scale: true, name: `direction ${i + 1}, ${((explained[i] ?? 0) * 100).toFixed(1)}% of the variance`, nameLocation: 'middle', nameGap: 24, nameTextStyle: { color: soft }, axisLabel: { show: false }, axisTick: { show: false }, axisLine: { lineStyle: { color: line } }, splitLine: { lineStyle: { color: line } } })
  const dot = (p: MapPoint) => ({ value: [p.x, p.y], key: p.key, words: `${p.key}${field ? `<br>${field}: ${plain(p.value) || 'missing'}` : ''}` })
  const given = points.filter((p) => p.value !== null)
  const asScale = given.length > 0 && given.every((p) => isScale(p.value))
  const counts = new Map<string, number>()
  if (!asScale) for (const p of given) counts.set(plain(p.value), (counts.get(plain(p.value)) ?? 0) + 1)
  const values = [...counts].sort((a, b) => b[1] - a[1]).map(([v]) => v)
  const own = new Set(values.slice(0, HUES.length))
  const base = { type: 'scatter', symbolSize: points.length > 6000 ? 3 : 5, large: false }
  const groups = asScale
    ? [{ ...base, name: field, data: given.map((p) => ({ ...dot(p), value: [p.x, p.y, scaled(p.value)] })) }]
    : [...own].map((v, i) => ({ ...base, name: v, color: HUES[i], itemStyle: { opacity: 0.75 }, data: given.filter((p) => plain(p.value) === v).map(dot) }))
  const rest = points.filter((p) => p.value === null || (!asScale && !own.has(plain(p.value))))
  if (rest.length) groups.push({ ...base, name: field ? (values.length > own.size ? 'other, or missing' : 'missing') : 'records', color: soft ?? '', itemStyle: { opacity: 0.45 }, data: rest.map(dot) })
  const scale = given.map((p) => scaled(p.value)).sort((a, b) => a - b)
  const share = (q: number) => scale[Math.min(scale.length - 1, Math.floor(q * scale.length))] ?? 0
  const isTime = asScale && typeof given[0]?.value === 'string'
  const near = (name: string, of: NonNullable<typeof query>['neighbours'], more: object) => ({
    type: 'scatter', name, z: 5, ...more,
    data: of.map((n) => ({ value: [n.x, n.y], key: n.key, words: `${n.key}<br>distance ${n.distance.toFixed(4)}${n.true_rank ? `<br>true rank ${n.true_rank}` : ''}${n.found_at ? `<br>hit ${n.found_at}` : ''}` })),
  })
  const marks = query
    ? [
        near('true, found', query.neighbours.filter((n) => n.true_rank && n.found_at), { color: teal, symbolSize: 12, itemStyle: { borderColor: sheet, borderWidth: 1 } }),
        near('true, missed', query.neighbours.filter((n) => n.true_rank && !n.found_at), { symbolSize: 13, itemStyle: { color: 'transparent', borderColor: teal, borderWidth: 2.5 } }),
        near('found instead', query.neighbours.filter((n) => !n.true_rank), { color: amber, symbol: 'diamond', symbolSize: 13, itemStyle: { borderColor: sheet, borderWidth: 1 } }),
        { type: 'scatter', name: 'the query', z: 6, color: style('--lamp'), symbol: 'pin', symbolSize: 30, data: [{ value: [query.x, query.y], words: 'the query' }] },
      ]
    : []
  return {
    animation: false,
    textStyle: { color: ink },
    grid: { left: 40, right: 16, top: 40, bottom: 46 },
    legend: { type: 'scroll', top: 2, left: 6, right: 110, data: [...marks, ...groups].map((s) => s.name), textStyle: { color: ink, fontSize: 12 }, formatter: (n: string) => (counts.has(n) ? `${n} ${count(counts.get(n) ?? 0)}` : n) },
    toolbox: { right: 6, top: 0, feature: { saveAsImage: { name: props.name, title: 'Save as PNG', pixelRatio: 2 } }, iconStyle: { borderColor: soft } },
    dataZoom: [{ type: 'inside', xAxisIndex: 0, filterMode: 'none' }, { type: 'inside', yAxisIndex: 0, filterMode: 'none' }],
    tooltip: { trigger: 'item', backgroundColor: sheet, borderColor: line, textStyle: { color: ink, fontSize: 12 }, formatter: (d: { data: { words: string } }) => d.data.words },
    visualMap: asScale
      ? { type: 'continuous', seriesIndex: 0, dimension: 2, min: share(0.02), max: share(0.98), right: 6, bottom: 60, calculable: true, inRange: { color: ['#d8c26a', '#5f9c7a', '#3a4f8a'] }, textStyle: { color: soft, fontSize: 11 }, formatter: (v: number) => (isTime ? new Date(v).toISOString().slice(0, 10) : String(+v.toFixed(2))) }
      : undefined,
    xAxis: axis(0),
    yAxis: axis(1),
    series: [...groups, ...marks],
  }
})
const clicked = (event: { data?: unknown }) => {
  const { key } = (event.data ?? {}) as { key?: string }
  if (key) emit('pick', key)
}
</script>

<template>
  <VChart class="chart" :option="option" :update-options="{ notMerge: true }" autoresize role="img" aria-label="Records in two dimensions" @click="clicked" />
</template>

<style scoped>
.chart { height: 560px; width: 100%; }
</style>
