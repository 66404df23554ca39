<script setup lang="ts">
import { computed } from 'vue'
import type { Arrival } from '../api/client'
import { duration, exact, harmless, time } from '../format'
import GridTable from './GridTable.vue'
import PlotBars from './PlotBars.vue'

// How long the last loads took, by steps: a bar each, and the numbers below.
const props = defineProps<{ arrivals: Arrival[] }>()
const steps = [
  { name: 'settling', from: 'noticed_at', to: 'ready_at', about: 'until the file was known to be whole' },
  { name: 'waiting', from: 'ready_at', to: 'opened_at', about: 'until its turn came' },
  { name: 'reading', from: 'opened_at', to: 'staged_at', about: 'until all rows were read and checked' },
  { name: 'writing', from: 'staged_at', to: 'finished_at', about: 'until they were in the table' },
] as const
const took = (a: Arrival, s: (typeof steps)[number]) => {
  const [from, to] = [a[s.from], a[s.to]]
  return from && to ? Math.max(0, +new Date(to) - +new Date(from)) / 1000 : null
}
const loads = computed(() =>
  props.arrivals
    .filter((a) => a.state === 'loaded' && a.opened_at)
    .slice(0, 60)
    .map((a) => ({ a, took: steps.map((s) => took(a, s)) })),
)
const drawn = computed(() => [...loads.value].reverse())
const series = computed(() => steps.map((s, i) => ({ name: s.name, values: drawn.value.map((l) => l.took[i] ?? 0) })))
const said = (s: number | null) => (s === null ? '–' : duration(s * 1000))
const sum = (took: (number | null)[]) => took.reduce<number>((n, s) => n + (s ?? 0), 0)
</script>

<template>
  <p v-if="!loads.length" class="nothing">No loads yet.</p>
  <template v-else>
    <PlotBars :at="drawn.map((l) => time(l.a.finished_at))" :series="series" about="How long the last loads took, by steps" seconds />
    <GridTable name="load-times">
      <thead>
        <tr>
          <th>Loaded</th>
          <th>Path</th>
          <th v-for="s in steps" :key="s.name" class="n" :title="s.about">{{ s.name }}</th>
          <th class="n">Together</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="l in loads" :key="l.a.id">
          <td class="t" :title="exact(l.a.finished_at)">{{ time(l.a.finished_at) }}</td>
          <td class="path">
            <router-link :to="`/arrivals/${l.a.id}`">{{ harmless(l.a.path) }}</router-link>
          </td>
          <td v-for="(s, i) in l.took" :key="i" class="n" :class="{ nil: !s }">{{ said(s) }}</td>
          <td class="n">{{ said(sum(l.took)) }}</td>
        </tr>
      </tbody>
    </GridTable>
  </template>
</template>
