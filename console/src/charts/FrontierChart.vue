<script setup lang="ts">
/** Recall against latency: a line an index and query set; recall on a scale where 0.9, 0.99 and 0.999 are equally far apart. */
import { computed } from 'vue'
import VChart from 'vue-echarts'
import { use } from 'echarts/core'
import { LineChart, ScatterChart } from 'echarts/charts'
import { DataZoomComponent, GridComponent, LegendComponent, ToolboxComponent, TooltipComponent } from 'echarts/components'
import { LabelLayout } from 'echarts/features'
import { CanvasRenderer } from 'echarts/renderers'
import type { Sweep, SweepPoint } from '../api/shapes'
import { micros, pointText, recallText, settingsText } from '../api/words'
import { indexColour, style, useTheme } from './palette'

use([LineChart, ScatterChart, DataZoomComponent, GridComponent, LegendComponent, ToolboxComponent, TooltipComponent, LabelLayout, CanvasRenderer])

/** What ECharts hands to a formatter: the datum that was drawn. */
interface Drawn {
  data: { value: number[]; point?: SweepPoint; exact?: string }
}
const props = defineProps<{ sweep: Sweep; served: (p: SweepPoint) => boolean }>()
const emit = defineEmits<{ pick: [SweepPoint] }>()
const tick = useTheme()

/** How many nines a recall has; all of them are drawn as four. */
const nines = (recall: number) => -Math.log10(Math.max(1 - recall, 1e-4))
const fromNines = (y: number) => 1 - 10 ** -y
const LABELS = [0, 0.5, 0.8, 0.9, 0.95, 0.98, 0.99, 0.995, 0.999, 0.9999]

const option = computed(() => {
  void tick.value
  const { points, indexes, query_sets } = props.sweep.result
  const [ink, soft, line, teal, lamp] = ['--ink', '--soft', '--line', '--exact', '--lamp'].map(style)
  const lines = indexes.flatMap((index, i) =>
    query_sets.flatMap((set, j) => {
      const own = points.filter((p) => p.index === index.name && p.query_set === set.name)
      const groups = [...new Set(own.map((p) => `${p.k}/${p.clients}`))]
      return groups.map((group) => ({
        name: [index.name, query_sets.length > 1 && set.name, groups.length > 1 && `k ${group.replace('/', ', clients ')}`].filter(Boolean).join(' · '),
        type: 'line', color: indexColour(i), symbol: ['circle', 'rect', 'triangle', 'diamond'][j % 4], symbolSize: 8,
        lineStyle: { type: j === 0 ? 'solid' : 'dashed', width: 2 },
        data: own.filter((p) => `${p.k}/${p.clients}` === group).sort((a, b) => a.figures.p50_us - b.figures.p50_us)
          .map((p) => ({ value: [p.figures.p50_us, nines(p.figures.recall_mean)], point: p })),
        labelLayout: { hideOverlap: true },
        label: { show: true, position: 'bottom', color: soft, fontSize: 11, formatter: (d: Drawn) => (d.data.point ? settingsText(d.data.point.settings).split(', ')[0] : '') },
      }))
    }),
  )
  const served = points.filter(props.served)
  const exact = query_sets.filter((s) => s.exact)
  const highest = Math.min(4, Math.max(...points.map((p) => nines(p.figures.recall_mean)), 1) + 0.25)
  const lowest = Math.max(0, Math.min(...points.map((p) => nines(p.figures.recall_mean)), 1) - 0.15)
  const axis = { nameTextStyle: { color: soft }, axisLabel: { color: soft }, axisLine: { lineStyle: { color: line } }, splitLine: { lineStyle: { color: line } } }
  const times = [...points.map((p) => p.figures.p50_us), ...exact.map((s) => s.exact?.p50_us ?? 1)]
  const tells = (p: SweepPoint) => {
    const f = p.figures
    return `<b>${p.index}, ${pointText(p, props.sweep)}</b><br>${p.query_set}: recall@${p.k} <b>${recallText(f.recall_mean)}</b> (${recallText(f.recall_interval.low)} to ${recallText(f.recall_interval.high)})` +
      `<br>p5 ${f.recall_p5.toFixed(2)}, min ${f.recall_min.toFixed(2)}, gap ${(f.gap_mean * 100).toFixed(2)}%<br>p50 ${micros(f.p50_us)}, p95 ${micros(f.p95_us)}, p99 ${micros(f.p99_us)}`
  }
  return {
    animation: false,
    textStyle: { color: ink },
    grid: { left: 64, right: 32, top: 54, bottom: 48 },
    legend: { top: 2, left: 10, right: 60, type: 'scroll', textStyle: { color: ink }, itemWidth: 22 },
    toolbox: { right: 6, top: 0, feature: { saveAsImage: { name: `sweep-${props.sweep.id}`, title: 'Save as PNG', pixelRatio: 2 } }, iconStyle: { borderColor: soft } },
    dataZoom: [{ type: 'inside', xAxisIndex: 0, filterMode: 'none' }, { type: 'inside', yAxisIndex: 0, filterMode: 'none' }],
    tooltip: {
      trigger: 'item', backgroundColor: style('--sheet'), borderColor: line, textStyle: { color: ink, fontSize: 12 },
      formatter: (d: Drawn) => (d.data.point ? tells(d.data.point) : (d.data.exact ?? '')),
    },
    xAxis: {
      type: 'log', logBase: 10, name: 'latency p50, of the engine', nameLocation: 'middle', nameGap: 28, ...axis,
      min: Math.min(...times) / 1.4, max: Math.max(...times) * 1.4,
      axisLabel: { color: soft, formatter: (v: number) => micros(v) }, minorSplitLine: { show: false },
    },
    yAxis: {
      type: 'value', name: 'recall, mean', min: lowest, max: highest, ...axis,
      axisTick: { customValues: LABELS.map(nines) }, splitLine: { show: true, lineStyle: { color: line } },
      axisLabel: { color: soft, customValues: LABELS.map(nines).filter((y) => y >= lowest && y <= highest), formatter: (v: number) => String(Number(fromNines(v).toFixed(4))) },
    },
    series: [
      ...lines,
      ...(exact.length ? [{
        name: 'exact scan', type: 'scatter', color: teal, symbol: 'diamond', symbolSize: 14,
        data: exact.map((s) => ({ value: [s.exact?.p50_us ?? 1, highest], exact: `exact scan of ${s.name}<br>recall 1<br>p50 ${micros(s.exact?.p50_us ?? 0)}, p99 ${micros(s.exact?.p99_us ?? 0)}` })),
      }] : []),
      ...(served.length ? [{
        name: 'serving choice', type: 'scatter', symbol: 'circle', symbolSize: 22, z: 1, itemStyle: { color: lamp, opacity: 0.75 },
        data: served.map((p) => ({ value: [p.figures.p50_us, nines(p.figures.recall_mean)], point: p })),
      }] : []),
    ],
  }
})
const picked = (d: { data: unknown }) => {
  const point = (d.data as Partial<Drawn['data']> | null)?.point
  if (point) emit('pick', point)
}
</script>

<template>
  <VChart class="chart" :option="option" autoresize role="img" aria-label="Recall against latency" @click="picked" />
</template>

<style scoped>
.chart { height: 360px; width: 100%; }
</style>
