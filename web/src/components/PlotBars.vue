<script setup lang="ts">
import { BarChart } from 'echarts/charts'
import * as echarts from 'echarts/core'
import { ref } from 'vue'
import { count, duration } from '../format'
import { colour, overTime, usePlot } from '../plots'

// Stacked bars over time; the numbers stand in a table beside them.
const props = defineProps<{ at: string[]; series: { name: string; values: number[] }[]; about: string; seconds?: boolean }>()
echarts.use([BarChart])
const box = ref<HTMLElement>()
const tones: Record<string, string> = { inserted: 'felt', updated: 'sun', unchanged: 'felt-soft', outdated: 'faint', duplicate: 'cool', rejected: 'bad', withheld: 'warm', database: 'felt', reading: 'felt-soft', taken: 'felt', refused: 'bad', late: 'warm', settling: 'faint', waiting: 'warm', writing: 'felt' }
usePlot(box, () => ({
  ...overTime(props.at, props.about, (v) => (props.seconds ? duration(v * 1000) : count(Math.round(v * 10) / 10))),
  series: props.series.map((s) => ({ name: s.name, type: 'bar', stack: 'all', data: s.values, barMaxWidth: 28, itemStyle: { color: colour(tones[s.name] ?? 'felt') } })),
}))
</script>

<template>
  <div ref="box" class="plot" role="img" :aria-label="about"></div>
</template>
