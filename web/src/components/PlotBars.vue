<script setup lang="ts">
import { BarChart } from 'echarts/charts'
import { AriaComponent, GridComponent, LegendComponent, TooltipComponent } from 'echarts/components'
import * as echarts from 'echarts/core'
import { CanvasRenderer } from 'echarts/renderers'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { count } from '../format'
import { dark } from '../theme'

// Stacked bars over time; the numbers stand in a table beside them.
const props = defineProps<{ at: string[]; series: { name: string; values: number[] }[]; about: string }>()
echarts.use([BarChart, GridComponent, TooltipComponent, LegendComponent, AriaComponent, CanvasRenderer])

const box = ref<HTMLElement>()
let plot: echarts.ECharts | undefined
let size: ResizeObserver | undefined
const colour = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim()
const tones: Record<string, string> = { inserted: 'felt', updated: 'sun', unchanged: 'felt-soft', outdated: 'faint', duplicate: 'cool', rejected: 'bad', withheld: 'warm', database: 'felt', reading: 'felt-soft', taken: 'felt', refused: 'bad', late: 'warm' }

function draw() {
  plot?.setOption(
    {
      animation: false,
      aria: { enabled: true, label: { description: props.about } },
      grid: { left: 70, right: 12, top: 30, bottom: 24 },
      legend: { top: 0, left: 0, textStyle: { color: colour('ink') }, itemWidth: 12, itemHeight: 10 },
      tooltip: { trigger: 'axis', axisPointer: { type: 'shadow' }, valueFormatter: (v: unknown) => count(Math.round(Number(v) * 10) / 10), backgroundColor: colour('paper'), borderColor: colour('line'), textStyle: { color: colour('ink') } },
      xAxis: { type: 'category', data: props.at, axisLabel: { color: colour('quiet') }, axisLine: { lineStyle: { color: colour('line') } } },
      yAxis: { type: 'value', axisLabel: { color: colour('quiet'), formatter: (v: number) => count(v) }, splitLine: { lineStyle: { color: colour('soft') } } },
      series: props.series.map((s) => ({ name: s.name, type: 'bar', stack: 'all', data: s.values, barMaxWidth: 28, itemStyle: { color: colour(tones[s.name] ?? 'felt') } })),
    },
    { notMerge: true },
  )
}

onMounted(() => {
  if (!box.value) return
  plot = echarts.init(box.value)
  size = new ResizeObserver(() => plot?.resize())
  size.observe(box.value)
  draw()
})
watch(() => [props.at, props.series, dark.value], draw, { flush: 'post' })
onBeforeUnmount(() => {
  size?.disconnect()
  plot?.dispose()
})
</script>

<template>
  <div ref="box" class="plot" role="img" :aria-label="about"></div>
</template>

<style scoped>
.plot {
  height: 210px;
  margin-bottom: 10px;
}
</style>
