<script setup lang="ts">
import { useInfiniteQuery } from '@tanstack/vue-query'
import { NButton, NInput, NSelect } from 'naive-ui'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, got, type State } from '../api/client'
import ArrivalTable from '../components/ArrivalTable.vue'
import FeedPick from '../components/FeedPick.vue'

const route = useRoute()
const router = useRouter()
const states = ['noticed', 'settling', 'ready', 'loading', 'loaded', 'refused', 'failed', 'skipped', 'held', 'gone', 'recalled']

// The filters are in the address, so that a view can be kept and sent.
const filter = (name: string) =>
  computed({
    get: () => (route.query[name] ? String(route.query[name]) : null),
    set: (v) => void router.replace({ query: { ...route.query, [name]: v || undefined } }),
  })
const feed = filter('feed')
const state = filter('state')
const text = filter('text')
const day = filter('day')
const run = filter('run')
const slot = filter('slot')
const order = filter('order')
const ascending = computed(() => order.value === 'ascending')
const span = computed(() => {
  if (!day.value) return {}
  const begin = new Date(`${day.value}T00:00`)
  const end = new Date(begin)
  end.setDate(end.getDate() + 1)
  return { since: begin.toISOString(), until: end.toISOString() }
})

const { data, error, hasNextPage, fetchNextPage, isFetchingNextPage } = useInfiniteQuery({
  queryKey: ['arrivals', feed, state, text, day, run, slot, ascending],
  initialPageParam: 0,
  queryFn: ({ pageParam }) =>
    got(
      api.GET('/api/v1/arrivals', {
        params: { query: { feed: feed.value ?? undefined, state: (state.value as State) ?? undefined, text: text.value ?? undefined, run: Number(run.value) || undefined, slot: Number(slot.value) || undefined, ...span.value, ascending: ascending.value, [ascending.value ? 'after' : 'before']: pageParam || undefined, limit: pageParam ? 100 : 50 } },
      }),
    ),
  getNextPageParam: (last) => last.next || undefined,
})
const arrivals = computed(() => data.value?.pages.flatMap((p) => p.items) ?? [])
</script>

<template>
  <section class="panel">
    <div class="row filters">
      <h1>Ledger</h1>
      <FeedPick v-model="feed" clearable placeholder="Every feed" />
      <n-select v-model:value="state" size="small" clearable placeholder="Every state" :options="states.map((s) => ({ value: s, label: s }))" />
      <n-input v-model:value="text" size="small" clearable placeholder="Part of the path; * and ?" />
      <input :value="day ?? ''" type="date" class="field" aria-label="Day on which they were noticed" @change="day = ($event.target as HTMLInputElement).value" />
      <button v-if="run" type="button" class="chip" aria-label="Of every run" @click="run = null">run {{ run }} ×</button>
      <button v-if="slot" type="button" class="chip" aria-label="Of every slot" @click="slot = null">slot {{ slot }} ×</button>
    </div>
    <p v-if="error" role="alert">{{ error.message }}</p>
    <ArrivalTable v-if="arrivals.length" name="ledger" :arrivals="arrivals" :feed="!feed" :ascending="ascending" @turn="order = ascending ? null : 'ascending'" />
    <p v-else-if="data" class="nothing">{{ hasNextPage ? 'None among those; look further.' : feed || state || text || day || run || slot ? 'No arrival is like that.' : 'Nothing has arrived yet.' }}</p>
    <n-button v-if="hasNextPage" size="small" :loading="isFetchingNextPage" @click="fetchNextPage()">{{ ascending ? 'Newer' : 'Older' }}</n-button>
  </section>
</template>

<style scoped>
.filters {
  margin-bottom: 10px;
}
.filters > :not(h1) {
  max-width: 230px;
}
h1 {
  margin-right: 10px;
}
</style>
