<script setup lang="ts">
import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import DayRuler from '../components/DayRuler.vue'
import DoneSince from '../components/DoneSince.vue'
import FirstFeed from '../components/FirstFeed.vue'
import NeedsPerson from '../components/NeedsPerson.vue'
import NowLoading from '../components/NowLoading.vue'
import PickOne from '../components/PickOne.vue'
import QuietFeeds from '../components/QuietFeeds.vue'
import StateMark from '../components/StateMark.vue'
import { count, since } from '../format'
import { loads } from '../live'
import { dayQuery, statusQuery } from '../today'

const route = useRoute()
const router = useRouter()
const spans = [24, 6, 1]
const hours = computed({
  get: () => spans.find((h) => String(h) === route.query.hours) ?? 24,
  set: (h) => void router.replace({ query: { ...route.query, hours: h === 24 ? undefined : h } }),
})
// Whose feeds: those whose owner one is, or all.
const whose = [
  { value: false, label: 'All' },
  { value: true, label: 'Mine', title: 'Feeds whose owner you are' },
]
const mine = computed({
  get: () => route.query.whose === 'mine',
  set: (m) => void router.replace({ query: { ...route.query, whose: m ? 'mine' : undefined } }),
})
const {
  data: pages,
  error,
  hasNextPage,
  fetchNextPage,
  isFetchingNextPage,
} = useInfiniteQuery(computed(() => ({ ...dayQuery(hours.value, mine.value), placeholderData: keepPreviousData }))) // the ruler stays while another span is asked for
const day = computed(() => pages.value?.pages[0])
const { data: status } = useQuery(statusQuery())
const waiting = computed(() => status.value?.feeds.filter((f) => f.counts?.waiting) ?? [])
</script>

<template>
  <p v-if="error" class="panel" role="alert">{{ error.message }}</p>
  <section v-if="status?.totals.feeds" class="panel">
    <NeedsPerson :mine="mine" />
  </section>
  <section v-if="day" class="panel">
    <div class="row spread">
      <div class="row">
        <h1>Today</h1>
        <span v-if="status?.totals.feeds" class="quiet">
          {{ count(status.totals.feeds) }} {{ status.totals.feeds === 1 ? 'feed' : 'feeds' }}, {{ count(status.totals.rows_today) }} rows written<template v-if="status.totals.listed_only">, {{ count(status.totals.listed_only) }} feeds listed only</template>
        </span>
      </div>
      <div class="row">
        <PickOne v-model="mine" name="whose" about="Whose feeds" :of="whose" />
        <PickOne v-model="hours" name="hours" about="How far back" :of="spans.map((h) => ({ value: h, label: h === 1 ? '1 hour' : `${h} hours` }))" />
      </div>
    </div>
    <DayRuler v-for="(p, i) in pages?.pages" :key="i" :day="p" :hours="hours" :head="i === 0" />
    <button v-if="hasNextPage" type="button" class="button more" :disabled="isFetchingNextPage" @click="fetchNextPage()">More feeds</button>
    <QuietFeeds v-if="day.quiet.length" :quiet="day.quiet" :hours="hours" />
    <p v-if="mine && !day.feeds.length && !day.quiet.length" class="nothing">No feed says that you answer for it. The key <code>owner</code> of a feed file does: your name, or an address that begins with it.</p>
    <FirstFeed v-else-if="!day.feeds.length && !day.quiet.length" />
  </section>

  <section v-if="day" class="panel">
    <h2>Now</h2>
    <p v-if="!loads.length && !waiting.length" class="nothing">Nothing is waiting and nothing is being loaded.</p>
    <table v-else class="grid">
      <tbody>
        <NowLoading v-for="l in loads" :key="`${l.work} ${l.feed} ${l.arrival} ${l.began_at}`" :load="l" />
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
  <DoneSince />
</template>

<style scoped>
.more {
  margin: 6px 0;
}
</style>
