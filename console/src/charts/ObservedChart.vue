<script setup lang="ts">
/** Observed recall over time: a line an index, with the range that holds the mean of all searches. */
import { computed } from 'vue'
import VChart from 'vue-echarts'
import { use } from 'echarts/core'
import { LineChart } from 'echarts/charts'
import { GridComponent, LegendComponent, MarkLineComponent, ToolboxComponent, TooltipComponent } from 'echarts/components'
import { CanvasRenderer } from 'echarts/renderers'
import type { Observed } from '../api/shapes'
import { count, recallText, when } from '../api/words'
import { indexColour, style, useTheme } from './palette'

use([LineChart, GridComponent, LegendComponent, MarkLineComponent, ToolboxComponent, TooltipComponent, CanvasRenderer])

const props = defineProps<{ steps: Observed[]; floor: number | null }>()
const tick = useTheme()

const option = computed(() => {
  void tick.value
  const [ink, soft, line, wrong] = ['--ink', '--soft', '--line', '--wrong'].map(style)
  const indexes = [...new Set(props.steps.map((s) => s.index))]
  const axis = { nameTextStyle: { color: soft }, axisLabel: { color: soft }, axisLine: { lineStyle: { color: line } }, splitLine: { lineStyle: { color: line } } }
  const lowest = Math.min(...props.steps.map((s) => s.recall_low), props.floor ?? 1)
  const series = indexes.flatMap((index, i) => {
    const own = props.steps.filter((s) => s.index === index)
    const band = { type: 'line', symbol: 'none', silent: true, stack: index, color: indexColour(i), lineStyle: { opacity: 0 } }
    return [
      { ...band, name: `${index} low`, data: own.map((s) => [s.at, s.recall_low]) },
      { ...band, name: `${index} range`, areaStyle: { opacity: 0.15 }, data: own.map((s) => [s.at, s.recall_high - s.recall_low]) },
      { name: index, type: 'line', color: indexColour(i), symbolSize: 7, data: own.map((s) => ({ value: [s.at, s.recall_mean], step: s })) },
    ]
  })
  return {
    animation: false,
    textStyle: { color: ink },
    grid: { left: 56, right: 44, top: 62, bottom: 32 },
    legend: { top: 2, left: 10, data: indexes, textStyle: { color: ink } },
    toolbox: { right: 6, top: 0, feature: { saveAsImage: { name: 'observed-recall', title: 'Save as PNG', pixelRatio: 2 } }, iconStyle: { borderColor: soft } },
    tooltip: {
      trigger: 'item', backgroundColor: style('--sheet'), borderColor: line, textStyle: { color: ink, fontSize: 12 },
      formatter: (d: { data: { step?: Observed } }) => {
        const s = d.data.step
        return s ? `<b>${s.index}</b>, ${when(s.at)}<br>recall ${recallText(s.recall_mean)} (${recallText(s.recall_low)} to ${recallText(s.recall_high)})<br>${count(s.searches)} searches checked` : ''
      },
    },
    xAxis: { type: 'time', ...axis },
    yAxis: { type: 'value', name: 'observed recall', max: 1, min: Math.max(0, Math.floor((lowest - 0.01) * 20) / 20), ...axis },
    series: series.map((s, i) => (i === 0 && props.floor !== null ? { ...s, markLine: { silent: true, symbol: 'none', lineStyle: { color: wrong, type: 'dashed' }, label: { color: wrong, formatter: 'floor' }, data: [{ yAxis: props.floor }] } } : s)),
  }
})
</script>

<template>
  <VChart class="chart" :option="option" autoresize role="img" aria-label="Observed recall over time" />
</template>

<style scoped>
.chart { height: 300px; width: 100%; }
</style>
