<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { NButton } from 'naive-ui'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, got, type Slot, type SlotState } from '../api/client'
import FeedPick from '../components/FeedPick.vue'
import SlotTable from '../components/SlotTable.vue'
import StateMark from '../components/StateMark.vue'
import { count, day, month as monthOf } from '../format'
import { dayName } from '../slots'

// The calendar of a month: what was due on each day and what came of it. What
// is shown is in the address.
const route = useRoute()
const router = useRouter()
const { data: feeds } = useQuery({ queryKey: ['feeds', 'due'], queryFn: () => got(api.GET('/api/v1/feeds', { params: { query: { due: true, limit: 1 } } })) })
const go = (query: Record<string, string | undefined>) => void router.replace({ query: { ...route.query, ...query } })
const feed = computed({
  get: () => (route.query.feed ? String(route.query.feed) : (feeds.value?.items[0]?.name ?? null)),
  set: (v: string | null) => go({ feed: v ?? undefined, day: undefined }),
})
const { data: view } = useQuery({
  queryKey: ['feed', feed],
  queryFn: () => got(api.GET('/api/v1/feeds/{feed}', { params: { path: { feed: feed.value ?? '' } } })),
  enabled: computed(() => !!feed.value),
})
const month = computed(() => (/^\d{4}-\d{2}$/.test(String(route.query.month)) ? String(route.query.month) : dayName(new Date()).slice(0, 7)))
const first = computed(() => new Date(`${month.value}-01T00:00`))
const after = computed(() => new Date(first.value.getFullYear(), first.value.getMonth() + 1, 1))
const step = (n: number) => go({ month: dayName(new Date(first.value.getFullYear(), first.value.getMonth() + n, 1)).slice(0, 7), day: undefined })
const title = computed(() => monthOf(first.value))

const { data: counts, error } = useQuery({
  queryKey: ['slot-counts', feed, month],
  queryFn: () => got(api.GET('/api/v1/feeds/{feed}/slot-counts', { params: { path: { feed: feed.value ?? '' }, query: { from: first.value.toISOString(), to: after.value.toISOString() } } })),
  enabled: computed(() => !!feed.value),
})
const today = dayName(new Date())
const chosen = computed(() => (route.query.day ? String(route.query.day) : month.value === today.slice(0, 7) ? today : undefined))
const { data: slots } = useQuery({
  queryKey: ['slots', feed, chosen],
  queryFn: () => {
    const begin = new Date(`${chosen.value}T00:00`)
    const end = new Date(begin)
    end.setDate(end.getDate() + 1)
    return got(api.GET('/api/v1/slots', { params: { query: { feed: feed.value ?? undefined, from: begin.toISOString(), to: end.toISOString(), limit: 2000 } } }))
  },
  enabled: computed(() => !!feed.value && !!chosen.value),
})
const { data: plan } = useQuery({
  queryKey: ['plan', feed, month],
  queryFn: () => got(api.GET('/api/v1/feeds/{feed}/plan', { params: { path: { feed: feed.value ?? '' }, query: { from: new Date().toISOString(), to: after.value.toISOString() } } })),
  enabled: computed(() => !!view.value?.next_due_at && after.value > new Date()),
  retry: false,
})

const order: SlotState[] = ['missing', 'refused', 'late', 'open', 'on time', 'excused', 'surplus']
interface Cell {
  day: string
  date: number
  states: { state: SlotState; n: number }[]
  ahead: number
}
const weeks = computed(() => {
  const byDay = new Map<string, Cell>()
  const days: (Cell | undefined)[] = Array<undefined>((first.value.getDay() + 6) % 7).fill(undefined)
  for (const d = new Date(first.value); d < after.value; d.setDate(d.getDate() + 1)) {
    const cell: Cell = { day: dayName(d), date: d.getDate(), states: [], ahead: 0 }
    byDay.set(cell.day, cell)
    days.push(cell)
  }
  for (const c of counts.value?.items ?? []) {
    const states = byDay.get(dayName(new Date(c.at)))?.states
    const same = states?.find((s) => s.state === c.state)
    if (same) same.n += c.n
    else states?.push({ state: c.state, n: c.n })
  }
  for (const p of plan.value?.items ?? []) {
    const cell = byDay.get(dayName(new Date(p.due_at)))
    if (cell) cell.ahead++
  }
  for (const cell of byDay.values()) cell.states.sort((a, b) => order.indexOf(a.state) - order.indexOf(b.state))
  const out: (Cell | undefined)[][] = []
  for (let i = 0; i < days.length; i += 7) out.push(days.slice(i, i + 7))
  return out
})
const picked = computed(() => Number(route.query.slot) || undefined) // the slot that was looked for stands first
const shown = computed(() => {
  const all = slots.value?.items ?? []
  const rank = (s: Slot) => (s.id === picked.value ? -1 : s.state === 'late' && s.complete_at ? 3.5 : order.indexOf(s.state))
  return [...all].sort((a, b) => rank(a) - rank(b) || +new Date(b.due_at) - +new Date(a.due_at))
})
const most = 100
const weekdays = Array.from({ length: 7 }, (_, i) => new Date(2024, 0, 1 + i).toLocaleDateString(undefined, { weekday: 'short' })) // from a Monday on
</script>

<template>
  <section class="panel">
    <div class="row spread">
      <div class="row">
        <h1>Due</h1>
        <FeedPick v-model="feed" class="feeds" due />
      </div>
      <div class="row">
        <n-button size="small" aria-label="The month before" @click="step(-1)">‹</n-button>
        <strong class="month">{{ title }}</strong>
        <n-button size="small" aria-label="The month after" @click="step(1)">›</n-button>
      </div>
    </div>
    <p v-if="error" role="alert">{{ error.message }}</p>
    <p v-if="feeds && !feeds.total" class="nothing">No feed says when its files are due. The key <code>due</code> of a feed file does.</p>
    <p v-if="view" class="quiet words">{{ view.due }}</p>
    <table v-if="view" class="month">
      <thead>
        <tr>
          <th v-for="d in weekdays" :key="d">{{ d }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(week, i) in weeks" :key="i">
          <td v-for="(cell, j) in week" :key="j" :class="{ today: cell?.day === today, chosen: cell && cell.day === chosen }">
            <button v-if="cell" type="button" @click="go({ day: cell.day })">
              <span class="date">{{ cell.date }}</span>
              <span v-for="s in cell.states" :key="s.state" class="count"><StateMark :state="s.state" bare /> {{ count(s.n) }} {{ s.state }}</span>
              <span v-if="cell.ahead" class="count quiet">{{ count(cell.ahead) }} to come</span>
            </button>
          </td>
          <td v-for="n in 7 - week.length" :key="`rest${n}`" />
        </tr>
      </tbody>
    </table>
  </section>
  <section v-if="view && chosen" class="panel">
    <h2>{{ day(new Date(`${chosen}T00:00`)) }}</h2>
    <SlotTable v-if="shown.length" :slots="shown.slice(0, most)" :chosen="picked" plain />
    <p v-else class="nothing">Nothing was due on this day.</p>
    <p v-if="shown.length > most" class="quiet">and {{ count(shown.length - most) }} more</p>
  </section>
</template>

<style scoped>
.feeds {
  min-width: 240px;
}
.words {
  margin: 8px 0;
}
table.month {
  width: 100%;
  border-collapse: collapse;
  table-layout: fixed;
}
table.month th {
  color: var(--quiet);
  font-weight: 600;
  font-size: 12px;
  text-align: left;
  padding: 2px 6px;
}
table.month td {
  border: 1px solid var(--line);
  height: 72px;
  vertical-align: top;
  padding: 0;
}
td button {
  display: flex;
  flex-direction: column;
  width: 100%;
  min-height: 72px;
  padding: 3px 6px;
  gap: 1px;
  background: none;
  border: 0;
  font: inherit;
  color: inherit;
  text-align: left;
  cursor: pointer;
}
td.chosen {
  background: var(--soft);
}
td.today .date {
  color: var(--ink);
  border-bottom: 2px solid var(--sun);
}
.date {
  color: var(--quiet);
  align-self: flex-start;
}
.count {
  font-size: 12px;
  display: flex;
  align-items: center;
  gap: 3px;
}
</style>
