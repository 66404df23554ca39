<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, onBeforeUnmount, ref } from 'vue'
import { api, got } from '../api/client'
import { count, exact, harmless, time } from '../format'
import GridTable from './GridTable.vue'

// What people decided since one looked last: what one of them did to many files at once is one line.
const key = 'mullein-looked'
const dayAgo = () => new Date(Date.now() - 24 * 3_600_000).toISOString()
const since = ref(localStorage.getItem(key) ?? dayAgo())
const looked = () => localStorage.setItem(key, new Date().toISOString())
addEventListener('pagehide', looked)
onBeforeUnmount(() => {
  removeEventListener('pagehide', looked)
  looked()
})
const { data } = useQuery({
  queryKey: ['decisions', 'since', since],
  queryFn: () => got(api.GET('/api/v1/decisions', { params: { query: { since: since.value } } })),
})
const past: Record<string, string> = { redo: 'loaded again', skip: 'skipped', hold: 'held', release: 'released', accept: 'accepted', excuse: 'excused', recall: 'recalled', mend: 'mended', rebuild: 'rebuilt' }
interface Done {
  id: number
  at: string
  by: string
  what: string
  because: string
  feeds: Set<string>
  n: number
  arrival: number | null
  slots: boolean
}
const done = computed(() => {
  const out: Done[] = []
  for (const d of data.value?.items ?? []) {
    const last = out.at(-1)
    if (last && last.by === d.by && last.what === d.what && last.because === d.because && +new Date(last.at) - +new Date(d.at) < 60_000) {
      last.n++
      last.feeds.add(d.feed)
    } else out.push({ id: d.id, at: d.at, by: d.by, what: d.what, because: d.because, feeds: new Set([d.feed]), n: 1, arrival: d.arrival, slots: !d.arrival && !!d.slot })
  }
  return out
})
const few = 8
const page = (d: Done) => (d.n === 1 && d.arrival ? `/arrivals/${d.arrival}` : d.slots ? `/due?feed=${[...d.feeds][0]}` : `/ledger?feed=${[...d.feeds][0]}`)
const of = (d: Done) => (d.what === 'rebuild' ? [...d.feeds].join(', ') : `${count(d.n)} ${d.slots ? 'slot' : 'file'}${d.n === 1 ? '' : 's'} of ${d.feeds.size > 1 ? `${d.feeds.size} feeds` : [...d.feeds][0]}`)
</script>

<template>
  <section v-if="done.length" class="panel">
    <GridTable name="done-since">
      <template #head>
        <h2 :title="exact(since)">Done since you looked last, {{ time(since) }}</h2>
      </template>
      <tbody>
        <tr v-for="d in done.slice(0, few)" :key="d.id">
          <td class="t" :title="exact(d.at)">{{ time(d.at) }}</td>
          <td>
            {{ d.by }} {{ past[d.what] ?? d.what }} <router-link :to="page(d)">{{ of(d) }}</router-link>
          </td>
          <td class="path quiet">{{ harmless(d.because) }}</td>
        </tr>
      </tbody>
    </GridTable>
    <p v-if="done.length > few" class="quiet">and {{ done.length - few }} more</p>
  </section>
</template>
