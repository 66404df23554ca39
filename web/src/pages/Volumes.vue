<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, onBeforeUnmount, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, got, type Volume } from '../api/client'
import FeedPick from '../components/FeedPick.vue'
import PickOne from '../components/PickOne.vue'
import PlotBars from '../components/PlotBars.vue'
import GridTable from '../components/GridTable.vue'
import LateSuppliers from '../components/LateSuppliers.vue'
import { bytes, count, day, duration, exact, month } from '../format'

const route = useRoute()
const router = useRouter()
const spans = { day: { name: '24 hours', hours: 24, by: 'hour' }, week: { name: '7 days', hours: 7 * 24, by: 'hour' }, month: { name: '30 days', hours: 30 * 24, by: 'day' }, year: { name: '12 months', hours: 365 * 24, by: 'month' } } as const
type Span = keyof typeof spans
const spanNames = (Object.keys(spans) as Span[]).map((value) => ({ value, label: spans[value].name }))
const span = computed({ get: () => (String(route.query.span) in spans ? (route.query.span as Span) : 'day'), set: (s: Span) => void router.replace({ query: { ...route.query, span: s } }) })
const feed = computed({ get: () => (route.query.feed ? String(route.query.feed) : null), set: (f: string | null) => void router.replace({ query: { ...route.query, feed: f || undefined } }) })
const from = () => new Date(Date.now() - spans[span.value].hours * 3_600_000).toISOString()
const ask = (feeds: boolean) => got(api.GET('/api/v1/volumes', { params: { query: { feed: feed.value || undefined, from: from(), by: spans[span.value].by, feeds: feeds || undefined, limit: feeds ? 50 : 1000 } } }))
const { data, error } = useQuery({ queryKey: computed(() => ['volumes', 'time', span.value, feed.value]), queryFn: () => ask(false), refetchInterval: 60_000 })
// The plots come first, then the tables.
const plotted = ref(false)
let plotting: ReturnType<typeof setTimeout> | undefined
watch(data, (d) => d && (plotting ??= setTimeout(() => (plotted.value = true), 250)), { immediate: true })
onBeforeUnmount(() => clearTimeout(plotting))
const { data: byFeed } = useQuery({ queryKey: computed(() => ['volumes', 'feeds', span.value, feed.value]), queryFn: () => ask(true), refetchInterval: 60_000, enabled: plotted })

const at = (v: Volume) => {
  const d = new Date(v.at ?? 0)
  const by = spans[span.value].by
  if (by === 'month') return month(d, 'UTC')
  if (by === 'day') return day(d, 'UTC')
  return `${day(d)} ${String(d.getHours()).padStart(2, '0')}:00`
}
const items = computed(() => data.value?.items ?? [])

// Spans without work are gaps in the plots, and not left out.
const whole = computed(() => {
  const by = spans[span.value].by
  if (!data.value || by === 'month') return items.value
  const step = by === 'hour' ? 3_600_000 : 24 * 3_600_000
  const known = new Map(items.value.map((v) => [+new Date(v.at ?? 0), v]))
  const first = +new Date(items.value[0]?.at ?? data.value.from)
  const began = first - Math.floor((first - +new Date(data.value.from)) / step) * step
  const out: { at: string; v?: Volume }[] = []
  for (let t = began; t <= +new Date(data.value.to); t += step) out.push({ at: new Date(t).toISOString(), v: known.get(t) })
  return out.map(({ at, v }) => v ?? { ...nothing, at })
})
const nothing = { balance: {} as Volume['balance'], seconds: 0, db_seconds: 0 } as Volume
const outcomes = ['inserted', 'updated', 'unchanged', 'outdated', 'duplicate', 'rejected', 'withheld'] as const
const rows = computed(() => outcomes.map((o) => ({ name: o, values: whole.value.map((v) => v.balance[o] ?? 0) })).filter((s) => s.values.some((n) => n > 0)))
const seconds = computed(() => [{ name: 'database', values: whole.value.map((v) => v.db_seconds) }, { name: 'reading', values: whole.value.map((v) => Math.max(0, v.seconds - v.db_seconds)) }])
const files = computed(() => [{ name: 'taken', values: whole.value.map((v) => (v.files ?? 0) - (v.refused ?? 0)) }, { name: 'refused', values: whole.value.map((v) => v.refused ?? 0) }])
const minutes = computed(() => [{ name: 'late', values: whole.value.map((v) => (v.late?.p95 ?? 0) / 60) }])
const below = (s: number | null) => (s == null ? '–' : `< ${duration(s * 1000)}`)
const cost = (v: Volume) => (v.cost == null ? '' : `${v.cost.toFixed(2)} ${data.value?.currency ?? ''}`)
</script>

<template>
  <section class="panel">
    <div class="row top">
      <h1>Volumes</h1>
      <PickOne v-model="span" name="span" about="Span" :of="spanNames" />
      <FeedPick v-model="feed" clearable placeholder="All feeds" />
    </div>
    <p v-if="error" role="alert">{{ error.message }}</p>
    <p v-if="data && !items.length" class="nothing">No work in this span.</p>
    <div v-if="items.length" class="plots">
      <div>
        <h2>Rows</h2>
        <PlotBars :at="whole.map(at)" :series="rows" about="Rows by what became of them" />
      </div>
      <div>
        <h2>Files</h2>
        <PlotBars :at="whole.map(at)" :series="files" about="Files that were taken and refused" />
      </div>
      <div v-if="minutes[0]?.values.some((n) => n > 0)">
        <h2>Minutes late <small class="quiet">of 95 in a hundred late files, at the most</small></h2>
        <PlotBars :at="whole.map(at)" :series="minutes" about="How late late files were, in minutes" />
      </div>
      <div>
        <h2>Time of work</h2>
        <PlotBars :at="whole.map(at)" :series="seconds" about="Seconds of work, by where they went" seconds />
      </div>
    </div>
  </section>
  <LateSuppliers v-if="!feed && byFeed" />
  <section v-for="part in [{ name: 'By feed, the most expensive first', list: byFeed?.items ?? [], feeds: true }, { name: 'By time', list: items, feeds: false }]" :key="part.name" class="panel">
    <div class="row spread">
      <h2>{{ part.name }}</h2>
    </div>
    <GridTable v-if="part.list.length && data && plotted" :name="part.feeds ? 'volumes-by-feed' : 'volumes'">
      <thead>
        <tr>
          <th>{{ part.feeds ? 'Feed' : 'From' }}</th>
          <th class="n">Files</th>
          <th class="n">Refused</th>
          <th class="n">Read</th>
          <th v-for="o in outcomes" :key="o" class="n">{{ o }}</th>
          <th class="n">Bytes</th>
          <th class="n">Work</th>
          <th class="n" title="From coming to visible, 95 of a hundred files">Visible</th>
          <th class="n" title="After its slot was due, 95 of a hundred late files">Late</th>
          <th v-if="data.total.requests" class="n" title="That were made of places">Requests</th>
          <th v-if="data.total.cost != null" class="n">Cost</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(v, i) in [...part.list, data.total]" :key="i" :class="{ total: i === part.list.length }">
          <td class="t" :title="exact(v.at)">
            <template v-if="i === part.list.length">all</template>
            <router-link v-else-if="part.feeds" :to="`/feeds/${v.feed}`">{{ v.feed }}</router-link>
            <template v-else>{{ at(v) }}</template>
          </td>
          <td class="n">{{ count(v.files) }}</td>
          <td class="n" :class="{ nil: !v.refused }">{{ count(v.refused) }}</td>
          <td class="n">{{ count(v.balance.read) }}</td>
          <td v-for="o in outcomes" :key="o" class="n" :class="{ nil: !v.balance[o] }">{{ count(v.balance[o]) }}</td>
          <td class="n">{{ bytes(v.bytes) }}</td>
          <td class="n">{{ duration(v.seconds * 1000) }}</td>
          <td class="n">{{ below(v.lag.p95) }}</td>
          <td class="n">{{ below(v.late.p95) }}</td>
          <td v-if="data.total.requests" class="n">{{ count(v.requests) }}</td>
          <td v-if="data.total.cost != null" class="n">{{ cost(v) }}</td>
        </tr>
      </tbody>
    </GridTable>
  </section>
</template>

<style scoped>
.plots {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(460px, 100%), 1fr));
  gap: 6px 24px;
}
.top {
  gap: 16px;
  margin-bottom: 10px;
}
.total td {
  font-weight: 600;
  border-top: 1px solid var(--line);
}
</style>
