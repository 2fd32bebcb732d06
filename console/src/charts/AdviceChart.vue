<script setup lang="ts">
/** What each recipe costs: latency against memory, both logarithmic. Filled marks were measured on all records. */
import { computed } from 'vue'
import VChart from 'vue-echarts'
import { use } from 'echarts/core'
import { ScatterChart } from 'echarts/charts'
import { GridComponent, LegendComponent, MarkLineComponent, ToolboxComponent, TooltipComponent } from 'echarts/components'
import { CanvasRenderer } from 'echarts/renderers'
import type { Advice, Candidate, Trial } from '../api/shapes'
import { bytes, micros, recallText, seconds, settingsText } from '../api/words'
import { indexColour, style, useTheme } from './palette'

use([ScatterChart, GridComponent, LegendComponent, MarkLineComponent, ToolboxComponent, TooltipComponent, CanvasRenderer])

const props = defineProps<{ advice: Advice }>()
const tick = useTheme()

const option = computed(() => {
  void tick.value
  const [ink, soft, line, wrong] = ['--ink', '--soft', '--line', '--wrong'].map(style)
  const { candidates, winner, n_rows } = props.advice.result
  const axis = { nameTextStyle: { color: soft }, axisLine: { lineStyle: { color: line } }, splitLine: { lineStyle: { color: line } } }
  const tried = candidates.flatMap((c) => { const t = c.on_all ?? c.on_sample; return t ? [{ c, t }] : [] })
  // A sample's memory stands for that of all records.
  const memory = (c: Candidate, t: Trial) => (c.on_all ? t.memory_bytes : c.expected_memory_bytes) / 1e6
  const budget = props.advice.spec.memory_mb
  return {
    animation: false,
    textStyle: { color: ink },
    grid: { left: 70, right: 26, top: 44, bottom: 74 },
    legend: { type: 'scroll', bottom: 0, textStyle: { color: ink, fontSize: 11 } },
    toolbox: { right: 6, top: 0, feature: { saveAsImage: { name: `advice-${props.advice.id}`, title: 'Save as PNG', pixelRatio: 2 } }, iconStyle: { borderColor: soft } },
    tooltip: { trigger: 'item', backgroundColor: style('--sheet'), borderColor: line, textStyle: { color: ink, fontSize: 12 }, formatter: (d: { data: { words: string } }) => d.data.words },
    xAxis: { type: 'log', name: 'memory, MB', nameLocation: 'middle', nameGap: 26, ...axis, axisLabel: { color: soft } },
    yAxis: { type: 'log', name: 'latency p50, µs', ...axis, axisLabel: { color: soft } },
    series: tried.map(({ c, t }, i) => ({
      name: c.recipe, type: 'scatter', color: indexColour(i), symbol: c.recipe === winner ? 'diamond' : 'circle', symbolSize: c.recipe === winner ? 22 : 13,
      data: [{
        value: [memory(c, t), t.figures.p50_us],
        itemStyle: c.on_all ? {} : { color: 'transparent', borderColor: t.reached ? indexColour(i) : wrong, borderWidth: 2 },
        words: `${c.recipe}<br>${settingsText(t.settings)}<br>recall ${recallText(t.figures.recall_mean)}${t.reached ? '' : ', not reached'}<br>p50 ${micros(t.figures.p50_us)}, p99 ${micros(t.figures.p99_us)}<br>${bytes(memory(c, t) * 1e6)}, built in ${seconds(t.build_seconds)}<br>${c.on_all ? 'on all' : `on ${t.n_rows.toLocaleString('en')} of ${n_rows.toLocaleString('en')}`} records`,
      }],
      ...(i === 0 && budget ? { markLine: { silent: true, symbol: 'none', lineStyle: { color: wrong, type: 'dashed' }, label: { color: soft, formatter: 'allowed' }, data: [{ xAxis: budget }] } } : {}),
    })),
  }
})
</script>

<template>
  <VChart class="chart" :option="option" autoresize role="img" aria-label="Latency against memory of each recipe" />
</template>

<style scoped>
.chart { height: 330px; width: 100%; }
</style>
