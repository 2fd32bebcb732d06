<script setup lang="ts">
/** Distance by rank, from the nearest record to the 1,000th: where the curve is flat, a miss says little. */
import { computed } from 'vue'
import VChart from 'vue-echarts'
import { use } from 'echarts/core'
import { LineChart, ScatterChart } from 'echarts/charts'
import { DataZoomComponent, GridComponent, LegendComponent, MarkAreaComponent, MarkLineComponent, ToolboxComponent, TooltipComponent } from 'echarts/components'
import { CanvasRenderer } from 'echarts/renderers'
import type { LensAnswer } from '../api/shapes'
import { style, useTheme } from './palette'

use([LineChart, ScatterChart, DataZoomComponent, GridComponent, LegendComponent, MarkAreaComponent, MarkLineComponent, ToolboxComponent, TooltipComponent, CanvasRenderer])

const props = defineProps<{ seen: LensAnswer }>()
const tick = useTheme()

const option = computed(() => {
  void tick.value
  const [ink, soft, line, teal, amber] = ['--ink', '--soft', '--line', '--exact', '--approx'].map(style)
  const { truth, curve, strays, of_records, of_rows, metric } = props.seen
  const axis = { nameTextStyle: { color: soft }, axisLabel: { color: soft }, axisLine: { lineStyle: { color: line } }, splitLine: { lineStyle: { color: line } } }
  const points = (of: typeof truth) => of.map((t) => ({ value: [t.rank, t.distance], words: `${t.key}<br>true rank ${t.rank}, distance ${t.distance.toFixed(4)}` }))
  const words = (d: { data: { words?: string; value?: number[] } | number[] }) => {
    const { words, value } = Array.isArray(d.data) ? { words: undefined, value: d.data } : d.data
    return words ?? (value ? `rank ${value[0]}<br>distance ${value[1]?.toFixed(4)}` : '')
  }
  return {
    animation: false,
    textStyle: { color: ink },
    grid: { left: 64, right: 100, top: 62, bottom: 44 },
    legend: { top: 2, left: 10, textStyle: { color: ink } },
    toolbox: { right: 6, top: 0, feature: { saveAsImage: { name: 'similarity-by-rank', title: 'Save as PNG', pixelRatio: 2 } }, iconStyle: { borderColor: soft } },
    dataZoom: [{ type: 'inside', filterMode: 'none' }],
    tooltip: { trigger: 'item', backgroundColor: style('--sheet'), borderColor: line, textStyle: { color: ink, fontSize: 12 }, formatter: words },
    xAxis: { type: 'log', name: 'rank', nameLocation: 'middle', nameGap: 26, min: 1, max: Math.max(curve.length, 2), ...axis },
    yAxis: { type: 'value', name: `${metric} distance`, scale: true, ...axis },
    series: [
      {
        name: 'all records, by rank', type: 'line', color: soft, symbol: 'none', lineStyle: { width: 1.5 }, data: curve.map((d, i) => [i + 1, d]),
        markLine: {
          silent: true, symbol: 'none', lineStyle: { color: line, type: 'dashed' }, label: { color: soft, fontSize: 11, position: 'end', formatter: '{b}' },
          data: [{ yAxis: of_rows.p50, name: 'typical record' }, ...(of_records ? [{ yAxis: of_records.p50, name: "records' 10th" }] : [])],
        },
      },
      { name: 'true, found', type: 'scatter', color: teal, symbolSize: 9, data: points(truth.filter((t) => t.found_at !== null)) },
      { name: 'true, missed', type: 'scatter', symbolSize: 10, itemStyle: { color: 'transparent', borderColor: teal, borderWidth: 2 }, data: points(truth.filter((t) => t.found_at === null)) },
      { name: 'returned instead', type: 'scatter', color: amber, symbol: 'diamond', symbolSize: 10, data: strays.map((s) => ({ value: [Math.max(1, curve.findIndex((d) => d >= s.distance) + 1 || curve.length), s.distance], words: `${s.key}<br>hit ${s.rank}, distance ${s.distance.toFixed(4)}` })) },
    ],
  }
})
</script>

<template>
  <VChart class="chart" :option="option" autoresize role="img" aria-label="Distance by rank" />
</template>

<style scoped>
.chart { height: 300px; width: 100%; }
</style>
