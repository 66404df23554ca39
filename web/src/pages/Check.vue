<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { useRoute } from 'vue-router'
import { api, got } from '../api/client'
import CheckMark from '../components/CheckMark.vue'
import GridTable from '../components/GridTable.vue'
import { count, exact, time } from '../format'

// One check of a feed: what it saw in load after load.
const route = useRoute()
const feed = computed(() => String(route.params.feed))
const name = computed(() => String(route.params.check))
const { data: checks } = useQuery({ queryKey: ['checks', feed], queryFn: () => got(api.GET('/api/v1/feeds/{feed}/checks', { params: { path: { feed: feed.value } } })) })
const check = computed(() => checks.value?.items.find((c) => c.check === name.value))
const { data: history, error } = useQuery({
  queryKey: ['check-history', feed, name],
  queryFn: () => got(api.GET('/api/v1/feeds/{feed}/checks/{check}', { params: { path: { feed: feed.value, check: name.value }, query: { limit: 120 } } })),
})

// The plot: a mark a load, from the oldest to the newest.
const wide = 1000
const high = 160
const points = computed(() => (history.value?.items ?? []).filter((r) => r.value !== null && r.value !== undefined).reverse())
const bounds = computed(() => {
  const all = points.value.flatMap((p) => [p.value, p.low, p.high]).filter((v) => v != null)
  const [from, to] = [Math.min(...all, 0), Math.max(...all)]
  return to > from ? { from, to } : { from, to: from + 1 }
})
const x = (i: number) => (points.value.length < 2 ? wide / 2 : 8 + (i * (wide - 16)) / (points.value.length - 1))
const y = (v: number) => high - 10 - ((v - bounds.value.from) / (bounds.value.to - bounds.value.from)) * (high - 20)
const line = computed(() => points.value.map((p, i) => `${i ? 'L' : 'M'}${x(i)} ${y(p.value as number)}`).join(' '))
// What the value had to be at least, and at most, as it was for each load.
const edge = (of: 'low' | 'high') =>
  computed(() => {
    let pen = 'M'
    return points.value
      .map((p, i) => {
        const v = p[of]
        if (v == null) {
          pen = 'M'
          return ''
        }
        const step = `${pen}${x(i)} ${y(v)}${points.value.length === 1 ? 'h60' : ''}`
        pen = 'L'
        return step
      })
      .join(' ')
  })
const atLeast = edge('low')
const atMost = edge('high')
const shown = (v: number) => (Number.isInteger(v) ? count(v) : v.toPrecision(4))
</script>

<template>
  <p v-if="error" class="panel" role="alert">{{ error.message }}</p>
  <section class="panel">
    <h1>{{ name }}</h1>
    <p class="quiet about">
      A check of the {{ check?.scope ?? '…' }} of <router-link :to="`/feeds/${feed}?show=checks`">{{ feed }}</router-link><template v-if="check">; when it does not hold: {{ check.else }}</template>
    </p>
    <p v-if="check" class="mono">{{ check.must }}</p>
    <p v-else-if="checks" class="quiet">The present version of the feed has no such check.</p>
  </section>
  <section class="panel">
    <h2>What it saw</h2>
    <p v-if="history && !history.items.length" class="nothing">Nothing yet: no file was loaded since the check is there.</p>
    <div v-if="points.length" class="row values">
      <div class="axis quiet">
        <span>{{ shown(bounds.to) }}</span>
        <span>{{ shown(bounds.from) }}</span>
      </div>
      <svg :viewBox="`0 0 ${wide} ${high}`" preserveAspectRatio="none" role="img" :aria-label="`${points.length} values`">
        <line x1="0" :x2="wide" :y1="y(bounds.from)" :y2="y(bounds.from)" class="ground" vector-effect="non-scaling-stroke" />
        <path :d="atLeast" class="edge" vector-effect="non-scaling-stroke"><title>what it had to be at least</title></path>
        <path :d="atMost" class="edge" vector-effect="non-scaling-stroke"><title>what it had to be at most</title></path>
        <path :d="line" class="line" vector-effect="non-scaling-stroke" />
        <router-link v-for="(p, i) in points" :key="p.id" v-slot="{ navigate }" :to="`/arrivals/${p.arrival}`" custom>
          <path :d="`M${x(i)} ${y(p.value as number)} h0.01`" class="mark" :class="p.held ? 'held' : p.else" vector-effect="non-scaling-stroke" @click="navigate()">
            <title>{{ p.saw }}&#10;arrival {{ p.arrival }}, {{ exact(p.at) }}</title>
          </path>
        </router-link>
      </svg>
    </div>
    <GridTable name="check">
      <thead>
        <tr><th>At</th><th>It held</th><th>File</th><th class="n">Value</th><th class="n">At least</th><th class="n">At most</th><th>It saw</th></tr>
      </thead>
      <tbody>
        <tr v-for="r in history?.items.slice(0, 50)" :key="r.id">
          <td class="t" :title="exact(r.at)">{{ time(r.at) }}</td>
          <td class="t"><CheckMark :held="r.held" :otherwise="r.else" /></td>
          <td class="t">
            <router-link :to="`/arrivals/${r.arrival}`">arrival {{ r.arrival }}</router-link>
          </td>
          <td v-for="(v, i) in [r.value, r.low, r.high]" :key="i" class="n">{{ v == null ? '' : shown(v) }}</td>
          <td class="path">{{ r.saw }}</td>
        </tr>
      </tbody>
    </GridTable>
  </section>
</template>

<style scoped>
.about {
  margin: 4px 0 8px;
}
.values {
  margin-bottom: 10px;
}
.axis {
  display: flex;
  flex-direction: column;
  justify-content: space-between;
  height: 160px;
  font-size: 11px;
  text-align: right;
  min-width: 52px;
}
svg {
  flex: 1;
  height: 160px;
}
.ground {
  stroke: var(--line);
}
.line {
  fill: none;
  stroke: var(--felt-soft);
  stroke-width: 1.5;
}
.edge {
  fill: none;
  stroke: var(--warm);
  stroke-width: 1.2;
  stroke-dasharray: 5 4;
}
.mark {
  cursor: pointer;
  stroke-width: 8;
  stroke-linecap: round;
}
.held {
  stroke: var(--felt);
}
.warn,
.reject,
.refuse {
  stroke: var(--bad);
  stroke-linecap: square;
  stroke-width: 9;
}
.warn {
  stroke: var(--warm);
}
</style>
