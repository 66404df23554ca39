<script setup lang="ts">
import { useInfiniteQuery, useQuery } from '@tanstack/vue-query'
import { NButton, useMessage } from 'naive-ui'
import { computed } from 'vue'
import { api, got, type Run } from '../api/client'
import GridTable from '../components/GridTable.vue'
import StateMark from '../components/StateMark.vue'
import { count, duration, exact, harmless, time } from '../format'
import { loads } from '../live'

const { data, error, hasNextPage, fetchNextPage, isFetchingNextPage } = useInfiniteQuery({
  queryKey: ['runs'],
  initialPageParam: 0,
  queryFn: ({ pageParam }) => got(api.GET('/api/v1/runs', { params: { query: { before: pageParam || undefined, limit: 100 } } })),
  getNextPageParam: (last) => last.next || undefined,
})
const runs = computed(() => data.value?.pages.flatMap((p) => p.items) ?? [])
const causes: Record<Run['cause'], string> = { arrival: 'a file came', schedule: 'its time came', after: 'other feeds loaded', hand: 'asked for', rebuild: 'loaded afresh' }
const took = (r: Run) => (r.started_at && r.finished_at ? duration(+new Date(r.finished_at) - +new Date(r.started_at)) : '–')
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
const working = (r: Run) => loads.value.find((l) => l.feed === r.feed)
</script>

<template>
  <section class="panel">
    <div class="row spread">
      <h1>Runs</h1>
    </div>
    <p v-if="error" role="alert">{{ error.message }}</p>
    <p v-if="data && !runs.length" class="nothing">No run yet. One begins when a file is whole, when its time comes, or with <code>mullein run FEED</code>.</p>
    <GridTable v-if="runs.length" name="runs">
      <thead>
        <tr>
          <th class="n">Run</th>
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
            <div v-if="r.state === 'running' && working(r)" class="quiet">{{ working(r)?.path }}, {{ working(r)?.step }}, {{ count(working(r)?.rows ?? 0) }} rows<template v-if="working(r)?.waits">; waits for {{ working(r)?.waits }}</template></div>
          </td>
          <td>
            <router-link :to="`/feeds/${r.feed}`">{{ r.feed }}</router-link>
          </td>
          <td>{{ causes[r.cause] }}<template v-if="r.cause === 'hand'"> by {{ r.by }}</template></td>
          <td class="t" :title="exact(r.started_at)">{{ time(r.started_at) }}</td>
          <td class="n">{{ took(r) }}</td>
          <td class="n" :class="{ nil: !r.loaded }">{{ count(r.loaded) }}</td>
          <td class="n" :class="{ nil: !r.refused }">{{ count(r.refused) }}</td>
          <td class="n" :class="{ nil: !r.failed }">{{ count(r.failed) }}</td>
          <td class="n" :class="{ nil: !r.skipped }">{{ count(r.skipped) }}</td>
          <td v-for="n in numbers" :key="n" class="n" :class="{ nil: !r.balance[n] }">{{ count(r.balance[n]) }}</td>
        </tr>
      </tbody>
    </GridTable>
    <n-button v-if="hasNextPage" size="small" :loading="isFetchingNextPage" @click="fetchNextPage()">Older</n-button>
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
            <div v-for="l in s.loads" :key="l.arrival">{{ l.files > 1 ? `${l.files} files` : l.path }} of {{ l.feed }}: {{ l.step }}, {{ count(l.rows) }} rows<template v-if="l.waits">; waits for {{ l.waits }}</template></div>
          </td>
        </tr>
      </tbody>
    </GridTable>
  </section>
</template>
