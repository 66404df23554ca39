<script setup lang="ts">
import { useInfiniteQuery, useQuery } from '@tanstack/vue-query'
import { NButton, NRadioButton, NRadioGroup } from 'naive-ui'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, got } from '../api/client'
import DayRuler from '../components/DayRuler.vue'
import FirstFeed from '../components/FirstFeed.vue'
import NeedsPerson from '../components/NeedsPerson.vue'
import QuietFeeds from '../components/QuietFeeds.vue'
import StateMark from '../components/StateMark.vue'
import { count, harmless, since } from '../format'
import { loads } from '../live'

const route = useRoute()
const router = useRouter()
const spans = [24, 6, 1]
const hours = computed({
  get: () => spans.find((h) => String(h) === route.query.hours) ?? 24,
  set: (h) => void router.replace({ query: h === 24 ? {} : { hours: h } }),
})
const {
  data: pages,
  error,
  hasNextPage,
  fetchNextPage,
  isFetchingNextPage,
} = useInfiniteQuery({
  queryKey: ['day', hours],
  initialPageParam: '',
  queryFn: ({ pageParam }) => got(api.GET('/api/v1/day', { params: { query: { hours: hours.value, after: pageParam || undefined } } })),
  getNextPageParam: (last) => last.next || undefined,
  refetchInterval: 30_000,
  placeholderData: (before) => before, // the ruler stays while another span is asked for
})
const day = computed(() => pages.value?.pages[0])
const { data: status } = useQuery({ queryKey: ['status'], queryFn: () => got(api.GET('/api/v1/status')) })
const waiting = computed(() => status.value?.feeds.filter((f) => f.counts?.waiting) ?? [])
const share = (l: { bytes: number; size: number }) => (l.size ? Math.min(100, Math.round((100 * l.bytes) / l.size)) : 100)
</script>

<template>
  <p v-if="error" class="panel" role="alert">{{ error.message }}</p>
  <section v-if="status?.totals.feeds" class="panel">
    <NeedsPerson :status="status" />
  </section>
  <section v-if="day" class="panel">
    <div class="row spread">
      <div class="row">
        <h1>Today</h1>
        <span v-if="status?.totals.feeds" class="quiet">
          {{ count(status.totals.feeds) }} {{ status.totals.feeds === 1 ? 'feed' : 'feeds' }}, {{ count(status.totals.rows_today) }} rows written<template v-if="status.totals.listed_only">, {{ count(status.totals.listed_only) }} feeds listed only</template>
        </span>
      </div>
      <n-radio-group v-model:value="hours" size="small" name="hours">
        <n-radio-button v-for="h in spans" :key="h" :value="h" :label="h === 1 ? '1 hour' : `${h} hours`" />
      </n-radio-group>
    </div>
    <DayRuler v-for="(p, i) in pages?.pages" :key="i" :day="p" :hours="hours" :head="i === 0" />
    <n-button v-if="hasNextPage" size="small" class="more" :loading="isFetchingNextPage" @click="fetchNextPage()">More feeds</n-button>
    <QuietFeeds v-if="day.quiet.length" :quiet="day.quiet" :hours="hours" />
    <FirstFeed v-if="!day.feeds.length && !day.quiet.length" />
  </section>

  <section v-if="day" class="panel">
    <h2>Now</h2>
    <p v-if="!loads.length && !waiting.length" class="nothing">Nothing is waiting and nothing is being loaded.</p>
    <table v-else class="grid">
      <tbody>
        <tr v-for="l in loads" :key="l.arrival">
          <td><StateMark state="loading" /></td>
          <td>{{ l.feed }}</td>
          <td class="path">
            <router-link :to="`/arrivals/${l.arrival}`">{{ harmless(l.path) }}</router-link>
            <span v-if="l.files > 1" class="quiet"> and {{ l.files - 1 }} more</span>
          </td>
          <td class="n">{{ l.step }}, {{ share(l) }}%, {{ count(l.rows) }} rows</td>
        </tr>
        <tr v-for="f in waiting" :key="f.name">
          <td><StateMark state="ready" bare /> waiting</td>
          <td>
            <router-link :to="`/feeds/${f.name}`">{{ f.name }}</router-link>
          </td>
          <td colspan="2">
            <template v-if="f.waits">{{ f.waits }}; </template>{{ count(f.counts?.waiting ?? 0) }} arrivals<template v-if="f.counts?.oldest_waiting_at">, the oldest for {{ since(f.counts.oldest_waiting_at) }}</template>
          </td>
        </tr>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
.more {
  margin: 6px 0;
}
</style>
