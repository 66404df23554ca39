<script setup lang="ts">
import { useInfiniteQuery, useQuery } from '@tanstack/vue-query'
import { NButton, useMessage } from 'naive-ui'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { api, got, type Notice, type Problem } from '../api/client'
import GridTable from '../components/GridTable.vue'
import StateMark from '../components/StateMark.vue'
import { count, exact, harmless, since, time } from '../format'

const route = useRoute()
const message = useMessage()
const { data: problems, error } = useQuery({ queryKey: ['problems'], queryFn: () => got(api.GET('/api/v1/problems', { params: { query: { limit: 100 } } })) })
const { data: outlets } = useQuery({ queryKey: ['outlets'], queryFn: () => got(api.GET('/api/v1/outlets')) })
const { data, hasNextPage, fetchNextPage, isFetchingNextPage } = useInfiniteQuery({
  queryKey: ['notices'],
  initialPageParam: 0,
  queryFn: ({ pageParam }) => got(api.GET('/api/v1/notices', { params: { query: { before: pageParam || undefined, limit: 50 } } })),
  getNextPageParam: (last) => last.next || undefined,
})
const notices = computed(() => data.value?.pages.flatMap((p) => p.items) ?? [])
const shown = ref(0)
const { data: whole } = useQuery({ queryKey: computed(() => ['notices', shown.value]), enabled: computed(() => shown.value > 0), queryFn: () => got(api.GET('/api/v1/notices/{id}', { params: { path: { id: shown.value } } })) })

const shownParts = 3
const words: Record<string, string> = {
  late: 'late', missing: 'missing', refused: 'refused', failed: 'failed', held: 'held', rejects: 'many rejects', warning: 'a check warns', table: 'the table does not fit', landing: 'the landing is away',
  database: 'the database is away', disk: 'the disk is short of room', stopped: 'not working', rollup: 'rollup not kept', service: 'a service was lost', outlet: 'an outlet fails', extract: 'an extract failed', ending: 'about to end',
}
const marks: Record<string, string> = { late: 'late', missing: 'missing', held: 'held', rejects: 'refused', warning: 'held', refused: 'refused' }
const link = (p: Problem['parts'][number]) => (p.arrival ? `/arrivals/${p.arrival}` : p.slot ? `/due?feed=${p.feed}` : p.feed ? `/feeds/${p.feed}` : '/runs')
const states: Record<string, string> = { waiting: 'queued', sent: 'done', failed: 'failed' }
const how = (n: Notice) => (n.state === 'waiting' && n.attempts ? `tried ${n.attempts} times` : n.state)
const picked = computed(() => Number(route.query.problem) || 0)
const list = computed(() => [...(problems.value?.items ?? [])].sort((a, b) => Number(b.id === picked.value) - Number(a.id === picked.value)))

async function say(what: string, call: () => Promise<unknown>) {
  try {
    await call()
    message.success(what)
  } catch (e) {
    message.error((e as Error).message)
  }
}
const test = (name: string) => say(`A notice is on its way to ${name}; it stands below.`, () => got(api.POST('/api/v1/outlets/{outlet}/test', { params: { path: { outlet: name } } })))
const again = (id: number) => say(`Notice ${id} is sent again, as a new one.`, () => got(api.POST('/api/v1/notices/{id}/again', { params: { path: { id } } })))
</script>

<template>
  <section class="panel">
    <h1>What is wrong</h1>
    <p v-if="error" role="alert">{{ error.message }}</p>
    <p v-if="problems && !problems.items.length" class="nothing">Nothing is. What comes up stands here, told as one where it has one cause.</p>
    <GridTable v-if="list.length" name="problems">
      <thead>
        <tr>
          <th>What</th>
          <th>Cause</th>
          <th>For</th>
          <th>Where</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="p in list" :key="p.id" :class="{ picked: p.id === picked }">
          <td class="what"><StateMark :state="marks[p.kind] ?? 'failed'" bare /> {{ words[p.kind] ?? p.kind }}</td>
          <td>{{ harmless(p.cause) }}</td>
          <td class="t" :title="exact(p.began_at)">{{ since(p.began_at) }}</td>
          <td>
            <div v-for="(t, i) in p.parts.slice(0, shownParts)" :key="i" class="part" :class="{ quiet: t.over_at }" :title="harmless(t.what)">
              <router-link :to="link(t)">{{ t.feed || 'service' }}</router-link> {{ harmless(t.what) }}<template v-if="t.over_at"> (over)</template>
            </div>
            <div v-if="p.parts.length > shownParts" class="quiet">and {{ p.parts.length - shownParts }} more</div>
          </td>
        </tr>
      </tbody>
    </GridTable>
  </section>
  <section class="panel">
    <h2>Outlets</h2>
    <p v-if="outlets && !outlets.items.length" class="nothing">None, so nobody is told. Name one under <code>outlets</code> in <code>mullein.yaml</code>, and say in <code>tell</code> who hears of what.</p>
    <GridTable v-if="outlets?.items.length" name="outlets">
      <thead>
        <tr>
          <th>Outlet</th>
          <th>Way</th>
          <th>To</th>
          <th class="n">Waiting</th>
          <th class="n">Given up</th>
          <th>Last sent</th>
          <th><span class="unseen">To do</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="o in outlets.items" :key="o.outlet">
          <td>{{ o.outlet }}</td>
          <td>{{ o.way }}</td>
          <td>{{ harmless(o.to) }}<div v-if="o.problem" class="bad">{{ harmless(o.problem) }}</div></td>
          <td class="n" :class="{ nil: !o.waiting }">{{ count(o.waiting) }}</td>
          <td class="n" :class="{ nil: !o.failed }">{{ count(o.failed) }}</td>
          <td class="t" :title="exact(o.sent_at)">{{ time(o.sent_at) }}</td>
          <td><n-button size="tiny" @click="test(o.outlet)">Test</n-button></td>
        </tr>
      </tbody>
    </GridTable>
  </section>
  <section class="panel">
    <h2>Notices</h2>
    <p v-if="data && !notices.length" class="nothing">None was sent yet.</p>
    <GridTable v-if="notices.length" name="notices">
      <thead>
        <tr>
          <th class="n">Notice</th>
          <th>Written</th>
          <th>State</th>
          <th>Outlet</th>
          <th>To</th>
          <th>Says</th>
        </tr>
      </thead>
      <tbody>
        <template v-for="n in notices" :key="n.id">
          <tr>
            <td class="n">{{ n.id }}</td>
            <td class="t" :title="exact(n.at)">{{ time(n.at) }}</td>
            <td><StateMark :state="states[n.state] ?? n.state" bare /> {{ how(n) }}</td>
            <td>{{ n.outlet }}</td>
            <td>{{ harmless(n.whom) || '–' }}</td>
            <td>
              <button class="link" :aria-expanded="shown === n.id" @click="shown = shown === n.id ? 0 : n.id">{{ harmless(n.subject) }}</button>
              <div v-if="n.state !== 'sent' && n.answer" class="bad">{{ harmless(n.answer) }}</div>
            </td>
          </tr>
          <tr v-if="shown === n.id && whole?.id === n.id">
            <td colspan="6">
              <pre class="letter">{{ whole.text }}</pre>
              <n-button size="tiny" @click="again(n.id)">Send again</n-button>
            </td>
          </tr>
        </template>
      </tbody>
    </GridTable>
    <n-button v-if="hasNextPage" size="small" :loading="isFetchingNextPage" @click="fetchNextPage()">Older</n-button>
  </section>
</template>

<style scoped>
.part {
  max-width: 780px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.what {
  white-space: nowrap;
}
.picked td {
  background: var(--mark);
}
.bad {
  color: var(--bad);
}
.link {
  all: unset;
  cursor: pointer;
  color: var(--felt);
}
.link:focus-visible {
  outline: 2px solid var(--sun);
}
.letter {
  margin: 0 0 8px;
  padding: 10px 12px;
  background: var(--soft);
  border-radius: 4px;
  white-space: pre-wrap;
  font-family: ui-monospace, 'DejaVu Sans Mono', monospace;
  font-size: 12px;
}
@media (max-width: 640px) {
  .part {
    white-space: normal;
  }
}
</style>
