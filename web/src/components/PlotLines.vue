<script setup lang="ts">
import { LineChart } from 'echarts/charts'
import * as echarts from 'echarts/core'
import { ref } from 'vue'
import { duration } from '../format'
import { colour, overTime, usePlot } from '../plots'

// Times in seconds over time, a line each, which are told apart by their marks as well as by their colours.
const props = defineProps<{ at: string[]; series: { name: string; values: (number | null)[] }[]; about: string }>()
echarts.use([LineChart])
const box = ref<HTMLElement>()
const tones = ['felt', 'warm', 'cool', 'bad', 'sun', 'quiet', 'good', 'faint']
const marks = ['circle', 'rect', 'triangle', 'diamond', 'emptyCircle', 'emptyRect', 'emptyTriangle', 'emptyDiamond']
usePlot(box, () => ({
  ...overTime(props.at, props.about, (v) => duration(v * 1000)),
  series: props.series.map((s, i) => ({
    name: s.name,
    type: 'line',
    data: s.values,
    symbol: marks[i % marks.length],
    symbolSize: 7,
    showSymbol: true,
    lineStyle: { width: 1.5 },
    itemStyle: { color: colour(tones[i % tones.length] ?? 'felt') },
  })),
}))
</script>

<template>
  <div ref="box" class="plot" role="img" :aria-label="about"></div>
</template>
