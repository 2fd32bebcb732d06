<script setup lang="ts">
/** How much of the first hits both sides have, at each k; and the mean distance at each rank. */
import { computed } from 'vue'
import VChart from 'vue-echarts'
import { use } from 'echarts/core'
import { LineChart } from 'echarts/charts'
import { GridComponent, LegendComponent, ToolboxComponent, TooltipComponent } from 'echarts/components'
import { CanvasRenderer } from 'echarts/renderers'
import type { Comparison } from '../api/shapes'
import { indexColour, style, useTheme } from './palette'

use([LineChart, GridComponent, LegendComponent, ToolboxComponent, TooltipComponent, CanvasRenderer])

const props = defineProps<{ comparison: Comparison }>()
const tick = useTheme()

const option = computed(() => {
  void tick.value
  const [ink, soft, line] = ['--ink', '--soft', '--line'].map(style)
  const { overlap, distances } = props.comparison.result
  const axis = { nameTextStyle: { color: soft }, axisLabel: { color: soft }, axisLine: { lineStyle: { color: line } }, splitLine: { lineStyle: { color: line } } }
  const ranks = overlap.map((_, i) => i + 1)
  const both = distances !== null
  const grid = (top: number, height: number) => ({ left: 58, right: 18, top, height })
  const lineOf = (name: string, data: number[], grid: number, color: string | undefined, type = 'solid') => ({ name, type: 'line', xAxisIndex: grid, yAxisIndex: grid, data, color, symbolSize: 5, lineStyle: { width: 1.6, type } })
  const x = (gridIndex: number, name: string) => ({ type: 'category', gridIndex, data: ranks, name, nameLocation: 'middle', nameGap: 24, ...axis })
  // As many digits as tell the marks of the axis apart.
  const spread = 1 - Math.min(...overlap)
  const digits = spread < 0.004 ? 2 : spread < 0.04 ? 1 : 0
  const percent = (v: number) => `${(v * 100).toFixed(digits)}%`
  return {
    animation: false,
    textStyle: { color: ink },
    grid: both ? [grid(36, 110), grid(214, 110)] : [grid(36, 270)],
    toolbox: { right: 0, top: 0, feature: { saveAsImage: { name: `comparison-${props.comparison.id}`, title: 'Save as PNG', pixelRatio: 2 } }, iconStyle: { borderColor: soft } },
    legend: both ? { top: 182, right: 18, data: ['left', 'right'], textStyle: { color: ink } } : { show: false },
    tooltip: { trigger: 'axis', backgroundColor: style('--sheet'), borderColor: line, textStyle: { color: ink, fontSize: 12 } },
    xAxis: [x(0, 'first hits'), ...(both ? [x(1, 'rank')] : [])],
    yAxis: [
      { type: 'value', gridIndex: 0, name: 'both have', scale: true, max: 1, axisLabel: { color: soft, formatter: percent }, nameTextStyle: { color: soft }, splitLine: { lineStyle: { color: line } } },
      ...(both ? [{ type: 'value', gridIndex: 1, name: 'mean distance', scale: true, ...axis }] : []),
    ],
    series: [
      lineOf('both have', overlap, 0, style('--exact')),
      ...(distances ? [lineOf('left', distances.left, 1, indexColour(0)), lineOf('right', distances.right, 1, indexColour(1), 'dashed')] : []),
    ],
  }
})
</script>

<template>
  <VChart class="chart" :option="option" autoresize role="img" aria-label="Overlap by k, and distance by rank" />
</template>

<style scoped>
.chart { height: 366px; width: 100%; }
</style>
