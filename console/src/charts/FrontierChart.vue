<script setup lang="ts">
/** Recall against latency: one line for the mean, one for the worst twentieth, the exact scan as the bound. */
import { computed, onUnmounted, ref } from 'vue'
import VChart from 'vue-echarts'
import { use } from 'echarts/core'
import { LineChart, ScatterChart } from 'echarts/charts'
import { GridComponent, LegendComponent, ToolboxComponent, TooltipComponent } from 'echarts/components'
import { LabelLayout } from 'echarts/features'
import { CanvasRenderer } from 'echarts/renderers'
import type { Sweep, SweepPoint } from '../api/shapes'
import { mainSetting, micros, settingsText } from '../api/words'

use([LineChart, ScatterChart, GridComponent, LegendComponent, ToolboxComponent, TooltipComponent, LabelLayout, CanvasRenderer])

/** What ECharts hands to a formatter: the datum that was drawn. */
interface Drawn {
  data: { value: number[]; point?: SweepPoint }
}
const props = defineProps<{ sweep: Sweep; serving: string }>()
const style = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim()
const tick = ref(0)
// Colours are read again when the theme changes.
const observer = new MutationObserver(() => tick.value++)
observer.observe(document.documentElement, { attributeFilter: ['class'] })
onUnmounted(() => observer.disconnect())

const option = computed(() => {
  void tick.value
  const { points, exact } = props.sweep.result
  const k = props.sweep.spec.k ?? 10
  const [ink, soft, line, teal, amber, lamp] = ['--ink', '--soft', '--line', '--exact', '--approx', '--lamp'].map(style)
  const lineOf = (name: string, y: (p: SweepPoint) => number, dashed: boolean) => ({
    name, type: 'line', color: amber, lineStyle: { type: dashed ? 'dashed' : 'solid', width: dashed ? 1.5 : 2 },
    symbol: dashed ? 'rect' : 'circle', symbolSize: dashed ? 5 : 8,
    data: points.map((p) => ({ value: [p.p50_us, y(p)], point: p })),
    labelLayout: { hideOverlap: true },
    label: dashed ? undefined : { show: true, position: 'bottom', color: soft, fontSize: 11, formatter: (d: Drawn) => (d.data.point ? mainSetting(d.data.point.settings).join(' ') : '') },
  })
  const lowest = Math.min(...points.map((p) => Math.min(p.recall_p5, p.recall_mean)))
  const step = lowest > 0.9 ? 0.02 : lowest > 0.75 ? 0.05 : lowest > 0.5 ? 0.1 : 0.2
  const low = Math.max(0, Math.floor((lowest - 0.001) / step) * step)
  const serving = points.find((p) => settingsText(p.settings) === props.serving)
  const axis = { nameTextStyle: { color: soft }, axisLabel: { color: soft }, axisLine: { lineStyle: { color: line } }, splitLine: { lineStyle: { color: line } } }
  const times = [...points.map((p) => p.p50_us), exact.p50_us]
  return {
    animation: false,
    textStyle: { color: ink },
    grid: { left: 56, right: 28, top: 52, bottom: 48 },
    legend: { top: 2, left: 110, textStyle: { color: ink }, itemWidth: 22 },
    toolbox: { right: 6, top: 0, feature: { saveAsImage: { name: `recall-${props.sweep.index}`, title: 'Save as PNG', pixelRatio: 2 } }, iconStyle: { borderColor: soft } },
    tooltip: {
      trigger: 'item', backgroundColor: style('--sheet'), borderColor: line, textStyle: { color: ink, fontSize: 12 },
      formatter: (d: Drawn) => {
        const p = d.data.point
        if (!p) return `exact scan<br>recall 1<br>p50 ${micros(exact.p50_us)}, p99 ${micros(exact.p99_us)}`
        return `<b>${settingsText(p.settings)}</b><br>recall@${k} mean <b>${p.recall_mean.toFixed(4)}</b>, p5 ${p.recall_p5.toFixed(2)}, min ${p.recall_min.toFixed(2)}<br>p50 ${micros(p.p50_us)}, p95 ${micros(p.p95_us)}, p99 ${micros(p.p99_us)}`
      },
    },
    xAxis: {
      type: 'log', logBase: 10, name: 'latency p50 (engine, one query at a time)', nameLocation: 'middle', nameGap: 28, ...axis,
      min: Math.min(...times) * 0.7, max: Math.max(...times) * 1.4,
      axisLabel: { color: soft, formatter: (v: number) => micros(v) }, minorSplitLine: { show: false },
    },
    yAxis: { type: 'value', name: `recall@${k}`, max: 1, min: low, interval: step, ...axis, axisLabel: { color: soft, formatter: (v: number) => v.toFixed(2) } },
    series: [
      lineOf('mean', (p) => p.recall_mean, false),
      lineOf('5th percentile of queries', (p) => p.recall_p5, true),
      { name: 'exact scan', type: 'scatter', color: teal, symbol: 'diamond', symbolSize: 14, data: [{ value: [exact.p50_us, 1] }] },
      ...(serving
        ? [{ name: 'serving choice', type: 'scatter', symbol: 'circle', symbolSize: 22, z: 1, itemStyle: { color: lamp, opacity: 0.75 }, data: [{ value: [serving.p50_us, serving.recall_mean], point: serving }] }]
        : []),
    ],
  }
})
</script>

<template>
  <VChart class="chart" :option="option" autoresize role="img" :aria-label="`Recall against latency of ${sweep.index}`" />
</template>

<style scoped>
.chart { height: 340px; width: 100%; }
</style>
