<script setup lang="ts">
/** The last hour of a node: requests a second above, how long searches took below. */
import { computed } from 'vue'
import VChart from 'vue-echarts'
import { use } from 'echarts/core'
import { BarChart, LineChart } from 'echarts/charts'
import { GridComponent, LegendComponent, ToolboxComponent, TooltipComponent } from 'echarts/components'
import { CanvasRenderer } from 'echarts/renderers'
import type { PulseStep } from '../api/shapes'
import { micros } from '../api/words'
import { indexColour, style, useTheme } from './palette'

use([BarChart, LineChart, GridComponent, LegendComponent, ToolboxComponent, TooltipComponent, CanvasRenderer])

const props = defineProps<{ steps: PulseStep[]; stepS: number }>()
const tick = useTheme()

const option = computed(() => {
  void tick.value
  const [ink, soft, line, wrong] = ['--ink', '--soft', '--line', '--wrong'].map(style)
  const main = indexColour(0)
  const axis = { nameTextStyle: { color: soft }, axisLabel: { color: soft }, axisLine: { lineStyle: { color: line } }, splitLine: { lineStyle: { color: line } } }
  const stepMs = props.stepS * 1000
  const last = Math.floor(Date.now() / stepMs) * stepMs
  const span = { min: last - 3_600_000, max: last + stepMs }
  // Steps in which nothing was asked count too: they break the lines, and bars are as wide as a step.
  const known = new Map(props.steps.map((s) => [new Date(s.at).getTime(), s]))
  const every = Array.from({ length: 3600 / props.stepS + 1 }, (_, i) => last - 3_600_000 + i * stepMs)
  const rate = (of: (s: PulseStep) => number) => every.map((at) => {
    const step = known.get(at)
    return [at, step ? of(step) / props.stepS : 0]
  })
  const took = (of: (s: PulseStep) => number | null) =>
    every.map((at) => {
      const step = known.get(at)
      const us = step ? of(step) : null
      return [at, us === null ? null : us / 1000]
    })
  const bars = (name: string, color: string | undefined, opacity: number, of: (s: PulseStep) => number) => ({ name, type: 'bar', stack: 'requests', color, itemStyle: { opacity }, barMinWidth: 2, barMaxWidth: 6, data: rate(of) })
  const lines = (name: string, color: string | undefined, type: string, of: (s: PulseStep) => number | null) =>
    ({ name, type: 'line', xAxisIndex: 1, yAxisIndex: 1, color, symbol: 'circle', symbolSize: 3, lineStyle: { width: 1.5, type }, connectNulls: false, data: took(of) })
  return {
    animation: false,
    textStyle: { color: ink },
    grid: [{ left: 74, right: 20, top: 62, height: 120, containLabel: false }, { left: 74, right: 20, top: 226, height: 130, containLabel: false }],
    legend: { top: 2, left: 10, right: 40, textStyle: { color: ink }, itemWidth: 14 },
    toolbox: { right: 6, top: 0, feature: { saveAsImage: { name: 'pulse', title: 'Save as PNG', pixelRatio: 2 } }, iconStyle: { borderColor: soft } },
    tooltip: {
      trigger: 'axis', backgroundColor: style('--sheet'), borderColor: line, textStyle: { color: ink, fontSize: 12 },
      valueFormatter: (v: unknown) => (typeof v === 'number' ? (Math.round(v * 100) / 100).toString() : '–'),
    },
    axisPointer: { link: [{ xAxisIndex: 'all' }] },
    xAxis: [{ type: 'time', ...span, ...axis, axisLabel: { show: false } }, { type: 'time', gridIndex: 1, ...span, ...axis }],
    yAxis: [
      { type: 'value', name: 'requests a second', nameLocation: 'end', ...axis, nameTextStyle: { color: soft, align: 'left' } },
      { type: 'log', name: 'search: p50 dashed, p99 solid', gridIndex: 1, ...axis, nameTextStyle: { color: soft, align: 'left' }, axisLabel: { color: soft, formatter: (v: number) => micros(v * 1000) } },
    ],
    series: [
      bars('searches', main, 1, (s) => s.searches),
      bars('other', soft, 0.35, (s) => s.others),
      bars('refused: too many', wrong, 0.45, (s) => s.refused),
      bars('refused: wrong', soft, 1, (s) => s.wrong),
      bars('failed', wrong, 1, (s) => s.failed),
      lines('p50', main, 'dashed', (s) => s.p50_us),
      lines('p99', main, 'solid', (s) => s.p99_us),
    ],
  }
})
</script>

<template>
  <VChart class="chart" :option="option" autoresize role="img" aria-label="Requests a second, and how long searches took, over the last hour" />
</template>

<style scoped>
.chart { height: 390px; width: 100%; }
</style>
