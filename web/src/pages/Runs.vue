<script setup lang="ts">
import { useInfiniteQuery, useQuery } from '@tanstack/vue-query'
import { NButton, useMessage } from 'naive-ui'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, got, type Run } from '../api/client'
import FeedPick from '../components/FeedPick.vue'
import GridTable from '../components/GridTable.vue'
import SortHead from '../components/SortHead.vue'
import StateMark from '../components/StateMark.vue'
import WorkProgress from '../components/WorkProgress.vue'
import { between, count, exact, harmless, time } from '../format'
import { loads } from '../live'
import { howFar, workName } from '../working'

// What is shown, and in which order, is in the address.
const route = useRoute()
const router = useRouter()
const go = (query: Record<string, string | undefined>) => void router.replace({ query: { ...route.query, ...query } })
const feed = computed({ get: () => (route.query.feed ? String(route.query.feed) : null), set: (v) => go({ feed: v ?? undefined }) })
const ascending = computed(() => route.query.order === 'ascending')

const { data, error, hasNextPage, fetchNextPage, isFetchingNextPage } = useInfiniteQuery({
  queryKey: ['runs', feed, ascending],
  initialPageParam: 0,
  queryFn: ({ pageParam }) => got(api.GET('/api/v1/runs', { params: { query: { feed: feed.value ?? undefined, ascending: ascending.value, [ascending.value ? 'after' : 'before']: pageParam || undefined, limit: 100 } } })),
  getNextPageParam: (last) => last.next || undefined,
})
const runs = computed(() => data.value?.pages.flatMap((p) => p.items) ?? [])
const causes: Record<Run['cause'], string> = { arrival: 'a file came', schedule: 'its time came', after: 'other feeds loaded', hand: 'asked for', rebuild: 'loaded afresh' }
const numbers = ['read', 'inserted', 'updated', 'unchanged', 'rejected', 'withheld'] as const
const { data: status } = useQuery({ queryKey: ['status'], queryFn: () => got(api.GET('/api/v1/status')), refetchInterval: 5_000 })
const message = useMessage()
async function cancel(r: Run) {
  try {
    await got(api.POST('/api/v1/runs/{id}/cancel', { params: { path: { id: r.id } } }))
    message.success(`Run ${r.id} is told to end; what it has loaded stays.`)
  } catch (e) {
    message.error((e as Error).message)
  }
}
const range = (r: Run) => (r.wanted.from || r.wanted.to ? `slots ${r.wanted.from || r.wanted.to} to ${r.wanted.to || r.wanted.from}` : r.wanted.paths?.length ? r.wanted.paths.join(', ') : '')
const working = (r: Run) => (r.state === 'running' ? loads.value.filter((l) => l.run === r.id) : [])
</script>

<template>
  <section class="panel">
    <div class="row head">
      <h1>Runs</h1>
      <FeedPick v-model="feed" clearable placeholder="Every feed" class="pick" />
    </div>
    <p v-if="error" role="alert">{{ error.message }}</p>
    <p v-if="data && !runs.length && feed" class="nothing">No run of {{ feed }} yet.</p>
    <p v-else-if="data && !runs.length" class="nothing">No run yet. One begins when a file is whole, when its time comes, or with <code>mullein run FEED</code>.</p>
    <GridTable v-if="runs.length" name="runs">
      <thead>
        <tr>
          <SortHead class="n" :ascending="ascending" @turn="go({ order: ascending ? undefined : 'ascending' })">Run</SortHead>
          <th>State</th>
          <th>Feed</th>
          <th>Because</th>
          <th>Started</th>
          <th class="n">Took</th>
          <th class="n">Loaded</th>
          <th class="n">Refused</th>
          <th class="n">Failed</th>
          <th class="n">Skipped</th>
          <th v-for="n in numbers" :key="n" class="n">{{ n }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in runs" :key="r.id">
          <td class="n">
              <router-link :to="`/ledger?run=${r.id}`" title="Its files">{{ r.id }}</router-link>
            </td>
          <td>
            <StateMark :state="r.state" />
            <div v-if="r.reason" class="quiet">{{ harmless(r.reason) }}</div>
            <div v-if="range(r)" class="quiet">{{ range(r) }}</div>
            <div v-if="r.told.slots" class="quiet" :title="r.told.named?.join(', ')">{{ count(r.told.slots) }} slots, up to {{ r.told.at }}; {{ count(r.told.empty ?? 0) }} without files</div>
            <n-button v-if="r.state === 'running' || r.state === 'queued'" size="tiny" @click="cancel(r)">Cancel</n-button>
            <template v-for="l in working(r)" :key="l.began_at">
              <div class="quiet">{{ harmless(l.path) }}</div>
              <WorkProgress :work="l" />
            </template>
          </td>
          <td>
            <router-link :to="`/feeds/${r.feed}`">{{ r.feed }}</router-link>
          </td>
          <td>{{ causes[r.cause] }}<template v-if="r.cause === 'hand'"> by {{ r.by }}</template></td>
          <td class="t" :title="exact(r.started_at)">{{ time(r.started_at) }}</td>
          <td class="n">{{ between(r.started_at, r.finished_at) }}</td>
          <td class="n" :class="{ nil: !r.loaded }">{{ count(r.loaded) }}</td>
          <td class="n" :class="{ nil: !r.refused }">{{ count(r.refused) }}</td>
          <td class="n" :class="{ nil: !r.failed }">{{ count(r.failed) }}</td>
          <td class="n" :class="{ nil: !r.skipped }">{{ count(r.skipped) }}</td>
          <td v-for="n in numbers" :key="n" class="n" :class="{ nil: !r.balance[n] }">{{ count(r.balance[n]) }}</td>
        </tr>
      </tbody>
    </GridTable>
    <n-button v-if="hasNextPage" size="small" :loading="isFetchingNextPage" @click="fetchNextPage()">{{ ascending ? 'Newer' : 'Older' }}</n-button>
  </section>
  <section v-if="status" class="panel">
    <GridTable name="services">
      <template #head>
        <h2>Services</h2>
      </template>
      <thead>
        <tr>
          <th>Service</th>
          <th>State</th>
          <th class="n">Feeds</th>
          <th>Since</th>
          <th>Doing</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="s in status.services" :key="s.id">
          <td class="t">{{ s.name }}</td>
          <td><StateMark :state="s.alive ? 'running' : 'gone'" bare /> {{ s.alive ? 'alive' : 'gone' }}</td>
          <td class="n">{{ s.feeds }}</td>
          <td class="t" :title="exact(s.started_at)">{{ time(s.started_at) }}</td>
          <td>
            <span v-if="!s.loads.length" class="quiet">idle</span>
            <div v-for="l in s.loads" :key="`${l.work} ${l.feed} ${l.arrival} ${l.began_at}`">{{ l.files > 1 ? `${l.files} files` : harmless(l.path) }} of {{ l.feed }}: <template v-if="workName(l)">{{ workName(l) }}, </template>{{ howFar(l, Date.now()) }}</div>
          </td>
        </tr>
      </tbody>
    </GridTable>
  </section>
</template>

<style scoped>
.head {
  margin-bottom: 8px;
  gap: 20px;
}
.pick {
  max-width: 230px;
}
</style>
