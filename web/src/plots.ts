import { AriaComponent, GridComponent, LegendComponent, TooltipComponent } from 'echarts/components'
import * as echarts from 'echarts/core'
import { CanvasRenderer } from 'echarts/renderers'
import { onBeforeUnmount, onMounted, watch, type Ref } from 'vue'
import { count } from './format'
import { dark } from './theme'

echarts.use([GridComponent, TooltipComponent, LegendComponent, AriaComponent, CanvasRenderer])

/** A colour of the console's own, by its name in style.css, as it is in the theme of now. */
export const colour = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim()

const wide = matchMedia('(min-width: 641px)').matches

/** What all plots over time look like. */
export function overTime(at: string[], about: string, number: (v: number) => string = count) {
  return {
    animation: false,
    aria: { enabled: true, label: { description: about } },
    grid: { left: 70, right: 12, top: 30, bottom: 24 },
    legend: { top: 0, left: 0, type: wide ? 'plain' : 'scroll', textStyle: { color: colour('ink') }, itemWidth: 12, itemHeight: 10 },
    tooltip: { trigger: 'axis', axisPointer: { type: 'shadow' }, valueFormatter: (v: unknown) => (v == null ? '–' : number(Number(v))), backgroundColor: colour('paper'), borderColor: colour('line'), textStyle: { color: colour('ink') } },
    xAxis: { type: 'category', data: at, axisLabel: { color: colour('quiet') }, axisLine: { lineStyle: { color: colour('line') } } },
    yAxis: { type: 'value', axisLabel: { color: colour('quiet'), formatter: number }, splitLine: { lineStyle: { color: colour('soft') } } },
  }
}

// Plots are drawn one after the other, so that the first is seen before the last is worked out.
const waiting: (() => void)[] = []
function inTurn(draw: () => void) {
  waiting.push(draw)
  if (waiting.length === 1) next()
}
function next() {
  requestAnimationFrame(() =>
    setTimeout(() => {
      waiting.shift()
      if (waiting.length) next()
    }),
  )
  waiting[0]?.() // last, so that one that fails holds up none
}

/** Draws a plot in a box, anew whenever what it says, its size, or the theme changes. */
export function usePlot(box: Ref<HTMLElement | undefined>, option: () => echarts.EChartsCoreOption) {
  let plot: echarts.ECharts | undefined
  const size = new ResizeObserver(() => {
    if (plot && (plot.getWidth() !== box.value?.clientWidth || plot.getHeight() !== box.value.clientHeight)) plot.resize()
  })
  const draw = () => plot?.setOption(option(), { notMerge: true })
  const sight = new IntersectionObserver((seen) => {
    if (!box.value || !seen.some((s) => s.isIntersecting)) return
    sight.disconnect()
    inTurn(() => {
      if (!box.value) return // the page was left
      plot = echarts.init(box.value)
      size.observe(box.value)
      draw()
    })
  })
  onMounted(() => box.value && sight.observe(box.value)) // what nobody looks at is not drawn
  watch(() => [option(), dark.value], draw, { flush: 'post' })
  onBeforeUnmount(() => {
    sight.disconnect()
    size.disconnect()
    plot?.dispose()
  })
}
