<script setup lang="ts">
/** How many queries had each recall: what a mean hides. */
import { computed } from 'vue'
import VChart from 'vue-echarts'
import { use } from 'echarts/core'
import { BarChart } from 'echarts/charts'
import { GridComponent, ToolboxComponent, TooltipComponent } from 'echarts/components'
import { CanvasRenderer } from 'echarts/renderers'
import { count } from '../api/words'
import { style, useTheme } from './palette'

use([BarChart, GridComponent, ToolboxComponent, TooltipComponent, CanvasRenderer])

const props = defineProps<{ histogram: number[]; colour: string; name: string }>()
const tick = useTheme()

const option = computed(() => {
  void tick.value
  const [ink, soft, line] = ['--ink', '--soft', '--line'].map(style)
  const k = props.histogram.length - 1
  // Of long lists every few counts are one bar.
  const width = Math.max(1, Math.ceil((k + 1) / 26))
  const bars = Array.from({ length: Math.ceil((k + 1) / width) }, (_, i) => ({
    from: i * width, to: Math.min(k, (i + 1) * width - 1), n: props.histogram.slice(i * width, (i + 1) * width).reduce((a, b) => a + b, 0),
  }))
  const all = props.histogram.reduce((a, b) => a + b, 0)
  const words = (b: { from: number; to: number }) => (b.from === b.to ? `${b.from}` : `${b.from} to ${b.to}`)
  const axis = { nameTextStyle: { color: soft }, axisLine: { lineStyle: { color: line } } }
  return {
    animation: false,
    textStyle: { color: ink },
    grid: { left: 64, right: 16, top: 34, bottom: 44 },
    toolbox: { right: 6, top: 0, feature: { saveAsImage: { name: props.name, title: 'Save as PNG', pixelRatio: 2 } }, iconStyle: { borderColor: soft } },
    tooltip: {
      trigger: 'axis', backgroundColor: style('--sheet'), borderColor: line, textStyle: { color: ink, fontSize: 12 },
      formatter: (d: { dataIndex: number }[]) => {
        const b = bars[d[0]?.dataIndex ?? 0]
        return b ? `${count(b.n)} of ${count(all)} queries<br>found ${words(b)} of ${k}` : ''
      },
    },
    xAxis: { type: 'category', name: `found of the true ${k}`, nameLocation: 'middle', nameGap: 26, data: bars.map(words), ...axis, axisLabel: { color: soft }, axisTick: { alignWithLabel: true } },
    // Few queries that fail must be seen beside many that do not.
    yAxis: { type: 'log', name: 'queries, logarithmic', min: 0.5, ...axis, axisLabel: { color: soft, formatter: (v: number) => (v < 1 ? '' : count(v)) }, splitLine: { lineStyle: { color: line } } },
    series: [{ type: 'bar', color: props.colour, barCategoryGap: '20%', data: bars.map((b) => b.n || null), label: { show: bars.length < 16, position: 'top', color: soft, fontSize: 11, formatter: (d: { value: number | null }) => (d.value ? count(d.value) : '') } }],
  }
})
</script>

<template>
  <VChart class="chart" :option="option" autoresize role="img" aria-label="Queries by recall" />
</template>

<style scoped>
.chart { height: 240px; width: 100%; }
</style>
