<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import type { Day } from '../api/client'
import { clock, count } from '../format'

// A line a feed across the last hours and the next few: the times at which
// something is due as brackets, the arrivals as marks where they really came,
// sized by rows; what did not come is an empty box. Marks that would lie on
// each other are one mark. What is not in view is not drawn.
const props = defineProps<{ day: Day; hours: number; head?: boolean }>()
const router = useRouter()
const box = ref<HTMLElement>()
const width = ref(0) // until it is known, nothing is drawn
const resize = new ResizeObserver(() => (width.value = box.value?.clientWidth ?? 0))
// What is below the first lines is drawn a moment after those.
const first = 10
const upTo = ref(first)
onMounted(() => {
  if (!box.value) return
  width.value = box.value.clientWidth
  resize.observe(box.value)
  requestAnimationFrame(() => setTimeout(() => (upTo.value = Infinity)))
})
onBeforeUnmount(() => resize.disconnect())

// Where there is little room, a feed's name stands above its line.
const narrow = computed(() => width.value < 640)
const left = computed(() => (narrow.value ? 8 : 150))
const lineHeight = 42
const above = computed(() => (narrow.value ? 16 : 0))
const top = computed(() => (props.head ? 24 : 6))
const now = computed(() => +new Date(props.day.now))
const from = computed(() => now.value - props.hours * 3_600_000)
const to = computed(() => now.value + (props.hours * 3_600_000) / 8)
const x = (at: number) => left.value + ((at - from.value) / (to.value - from.value)) * (width.value - left.value - 8)
const height = computed(() => top.value + props.day.feeds.length * (lineHeight + above.value) + 4)

const ticks = computed(() => {
  const steps = [5, 10, 15, 30, 60, 120, 180, 240]
  const most = Math.min(13, Math.floor((width.value - left.value) / 52))
  const step = (steps.find((m) => (props.hours * 60) / m <= most) ?? 480) * 60_000
  const zone = new Date().getTimezoneOffset() * 60_000
  const out: { x: number; label: string }[] = []
  for (let t = Math.ceil((from.value - zone) / step) * step + zone; t < to.value; t += step) {
    const d = new Date(t)
    out.push({ x: x(t), label: `${String(d.getHours()).padStart(2, '0')}:${String(d.getMinutes()).padStart(2, '0')}` })
  }
  return out
})

// The slots of a line: a bracket where something was due; where nothing came,
// an empty box up to the next bracket, and one box for several in a row.
type DaySlot = Day['feeds'][number]['slots'][number]
interface Gap {
  x: number
  end: number
  state: string
  says: string
}
const bad = (s: DaySlot) => s.state === 'missing' || s.state === 'refused' || (s.state === 'late' && s.good < s.slots)
function gaps(slots: DaySlot[]): Gap[] {
  const out: Gap[] = []
  slots.forEach((s, i) => {
    if (!bad(s) || +new Date(s.missing_at) < from.value) return
    const next = slots[i + 1]
    const begin = Math.max(left.value, x(+new Date(s.at)))
    const end = Math.max(begin + 7, Math.min(x(+new Date(s.missing_at)), next ? x(+new Date(next.at)) : Infinity, x(Math.max(now.value, +new Date(s.at)))))
    const last = out.at(-1)
    const says = `${clock(s.at)}: ${s.slots - s.good} of ${s.slots} ${s.state === 'late' ? 'late, not here yet' : s.state}`
    if (last && last.state === s.state && begin - last.end < 2) {
      last.end = end
      last.says += `\n${says}`
    } else out.push({ x: begin, end, state: s.state, says })
  })
  return out
}

interface Group {
  x: number
  says: string
  rows: number
  marks: Day['feeds'][number]['marks']
  state: string
}

const says = (g: Group) => {
  const states = new Map<string, number>()
  for (const m of g.marks) states.set(m.state, (states.get(m.state) ?? 0) + m.count)
  const only = g.marks[0]
  return g.marks.length === 1 && only && only.count === 1
    ? `${only.path}\n${only.state}, ${count(only.rows)} rows, noticed ${clock(only.at)}`
    : `${count(g.marks.reduce((n, m) => n + m.count, 0))} arrivals: ${[...states].map(([s, n]) => `${n} ${s}`).join(', ')}; ${count(g.rows)} rows`
}

const rank = ['failed', 'refused', 'held', 'loading', 'ready', 'settling', 'noticed', 'loaded', 'skipped', 'recalled', 'gone']
const lines = computed(() =>
  props.day.feeds.map((f, i) => {
    const groups: Group[] = []
    for (const m of [...f.marks].sort((a, b) => +new Date(a.at) - +new Date(b.at))) {
      const at = +new Date(m.at)
      if (at < from.value) continue
      // Trouble is never folded into a mark of something good.
      const kind = ['failed', 'refused', 'held'].includes(m.state)
      const last = groups.findLast((g) => ['failed', 'refused', 'held'].includes(g.state) === kind)
      if (last && x(at) - last.x < 9) {
        last.marks.push(m)
        last.rows += m.rows
        if (rank.indexOf(m.state) < rank.indexOf(last.state)) last.state = m.state
      } else groups.push({ x: x(at), says: '', rows: m.rows, marks: [m], state: m.state })
    }
    for (const g of groups) g.says = says(g)
    const slots = f.slots.filter((s) => +new Date(s.at) >= from.value)
    const due = slots.map((s) => ({ x: x(+new Date(s.at)), late: s.state === 'late' && s.good === s.slots, says: `due ${clock(s.at)}: ${s.ahead ? 'still to come' : s.state}` }))
    return { ...f, y: top.value + i * (lineHeight + above.value) + above.value, groups, due, gaps: gaps(f.slots), runs: f.runs.map((t) => x(+new Date(t))).filter((px) => px >= left.value) }
  }),
)
const most = computed(() => Math.max(1, ...lines.value.flatMap((l) => l.groups.map((g) => g.rows))))
const radius = (g: Group) => 3 + 6 * Math.sqrt(g.rows / most.value)
const open = (g: Group, feed: string) => router.push(g.marks.length === 1 && g.marks[0]?.count === 1 ? `/arrivals/${g.marks[0]?.arrival}` : `/ledger?feed=${feed}${g.state === 'loaded' ? '' : `&state=${g.state}`}`)
</script>

<template>
  <div ref="box" class="ruler" :style="{ containIntrinsicHeight: `${height}px` }">
    <svg v-if="width" :width="width" :height="height" role="group" :aria-label="`The last ${hours} hours of ${day.feeds.length} feeds`">
      <g v-for="t in ticks" :key="t.x">
        <line :x1="t.x" :x2="t.x" :y1="top - 6" :y2="height" class="tick" />
        <text v-if="head" :x="Math.min(t.x, width - 17)" y="12" class="label" text-anchor="middle">{{ t.label }}</text>
      </g>
      <rect :x="x(now)" :y="top - 6" :width="Math.max(0, width - 8 - x(now))" :height="height - top + 6" class="ahead" />
      <g v-for="l in lines.slice(0, upTo)" :key="l.feed">
        <router-link :to="`/feeds/${l.feed}`">
          <text x="0" :y="narrow ? l.y - 2 : l.y + lineHeight / 2 + 4" class="feed">{{ l.feed }}</text>
        </router-link>
        <line :x1="left" :x2="width - 8" :y1="l.y + lineHeight / 2" :y2="l.y + lineHeight / 2" class="ground" />
        <line v-for="r in l.runs" :key="r" :x1="r" :x2="r" :y1="l.y + lineHeight - 10" :y2="l.y + lineHeight - 5" class="due" />
        <path v-for="d in l.due" :key="d.x" :d="`M${d.x + 3} ${l.y + 7}h-3v${lineHeight - 14}h3`" class="due" :class="{ late: d.late }">
          <title>{{ d.says }}</title>
        </path>
        <router-link v-for="g in l.gaps" :key="g.x" :to="`/due?feed=${l.feed}`" :aria-label="g.says">
          <rect :x="g.x" :y="l.y + 7" :width="Math.max(2, g.end - g.x)" :height="lineHeight - 14" class="gap" :class="g.state">
            <title>{{ g.says }}</title>
          </rect>
          <text v-if="g.end - g.x > 48" :x="(g.x + g.end) / 2" :y="l.y + lineHeight / 2 + 4" text-anchor="middle" class="word">{{ g.state }}</text>
        </router-link>
        <g v-for="g in l.groups" :key="`${g.x}${g.state}`" class="mark" :class="g.state" tabindex="0" role="link" :aria-label="g.says" @click="open(g, l.feed)" @keydown.enter="open(g, l.feed)">
          <title>{{ g.says }}</title>
          <path v-if="g.state === 'refused'" :d="`M${g.x - 5} ${l.y + lineHeight / 2 - 5}l10 10m0-10l-10 10`" class="cross" />
          <path v-else-if="g.state === 'failed'" :d="`M${g.x} ${l.y + lineHeight / 2 - 6}l6 11h-12Z`" />
          <circle v-else :cx="g.x" :cy="l.y + lineHeight / 2" :r="radius(g)" />
        </g>
      </g>
      <line :x1="x(now)" :x2="x(now)" :y1="top - 6" :y2="height" class="now" />
    </svg>
  </div>
</template>

<style scoped>
.ruler {
  content-visibility: auto;
}
svg {
  display: block;
}
.tick {
  stroke: var(--soft);
}
.label {
  fill: var(--quiet);
  font-size: 11px;
}
.feed {
  fill: var(--ink);
  font-size: 12.5px;
}
.ground {
  stroke: var(--line);
}
.due {
  fill: none;
  stroke: var(--faint);
  stroke-width: 1.2;
}
.due.late {
  stroke: var(--warm);
  stroke-width: 2;
}
.gap {
  fill: var(--bad);
  fill-opacity: 0.1;
  stroke: var(--bad);
  stroke-width: 1.4;
  stroke-dasharray: 3 2;
}
.gap.late {
  fill: var(--warm);
  stroke: var(--warm);
}
.gap:hover {
  fill-opacity: 0.3;
}
.word {
  fill: var(--bad);
  font-size: 11px;
  pointer-events: none;
}
.ahead {
  fill: var(--soft);
  opacity: 0.45;
}
.now {
  stroke: var(--sun);
  stroke-width: 1.5;
}
.mark {
  cursor: pointer;
  fill: var(--felt);
  fill-opacity: 0.75;
  stroke: var(--paper);
}
.mark:hover,
.mark:focus-visible {
  fill-opacity: 1;
  outline: none;
  stroke: var(--sun);
}
.mark.failed,
.mark.held {
  fill: var(--bad);
}
.cross {
  stroke: var(--bad);
  stroke-width: 2.4;
}
.mark.skipped,
.mark.gone {
  fill: var(--faint);
}
.mark.noticed,
.mark.settling,
.mark.ready,
.mark.loading {
  fill: var(--paper);
  stroke: var(--cool);
  stroke-width: 1.6;
}
</style>
