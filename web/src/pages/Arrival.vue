<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { useRoute } from 'vue-router'
import { api, got, type State, type Verb } from '../api/client'
import AskReason from '../components/AskReason.vue'
import BalanceBar from '../components/BalanceBar.vue'
import CheckResults from '../components/CheckResults.vue'
import GridTable from '../components/GridTable.vue'
import RejectTable from '../components/RejectTable.vue'
import RowTable from '../components/RowTable.vue'
import StateMark from '../components/StateMark.vue'
import { bytes, count, duration, exact, harmless, time } from '../format'

const route = useRoute()
const id = computed(() => Number(route.params.id))
const params = computed(() => ({ path: { id: id.value } }))
const { data: a, error } = useQuery({ queryKey: ['arrival', id], queryFn: () => got(api.GET('/api/v1/arrivals/{id}', { params: params.value })) })
const { data: rejects } = useQuery({
  queryKey: ['rejects', 'of', id],
  queryFn: () => got(api.GET('/api/v1/arrivals/{id}/rejects', { params: { ...params.value, query: { limit: 1000 } } })),
  enabled: computed(() => !!a.value?.balance.rejected),
})
const { data: checks } = useQuery({ queryKey: ['checks', 'of', id], queryFn: () => got(api.GET('/api/v1/arrivals/{id}/checks', { params: params.value })) })
const { data: rows } = useQuery({
  queryKey: ['rows', 'of', id],
  queryFn: () => got(api.GET('/api/v1/arrivals/{id}/rows', { params: { ...params.value, query: { limit: 50 } } })),
  enabled: computed(() => a.value?.state === 'loaded'),
})

const { data: decisions } = useQuery({ queryKey: ['decisions', id], queryFn: () => got(api.GET('/api/v1/arrivals/{id}/decisions', { params: params.value })) })
const verbs: { verb: Verb; label: string; about: string; from: State[] }[] = [
  { verb: 'release', label: 'Release', about: 'It goes on and is loaded.', from: ['held'] },
  { verb: 'redo', label: 'Load again', about: 'What it wrote is undone and it is loaded anew, in one transaction.', from: ['loaded', 'refused', 'failed', 'skipped', 'held', 'recalled', 'gone'] },
  { verb: 'hold', label: 'Hold', about: 'It waits until a person releases it.', from: ['noticed', 'settling', 'ready', 'failed'] },
  { verb: 'skip', label: 'Skip', about: 'It is never loaded.', from: ['noticed', 'settling', 'ready', 'failed', 'held', 'refused'] },
]
const decide = (verb: Verb) => (because: string) => got(api.POST('/api/v1/decisions', { body: { verb, because, arrivals: [id.value] } }))

// The life of a file: each step with how long it took to the next.
const steps = computed(() => {
  const v = a.value
  if (!v) return []
  const known = [
    { name: 'came', at: v.came_at && +new Date(v.noticed_at) - +new Date(v.came_at) > 1000 ? v.came_at : null },
    { name: 'noticed', at: v.noticed_at },
    { name: 'settling', at: v.settling_at },
    { name: 'ready', at: v.ready_at },
    { name: 'opened', at: v.opened_at },
    { name: 'read', at: v.staged_at },
    { name: v.state, at: v.finished_at },
  ].filter((s): s is { name: string; at: string } => !!s.at)
  return known.map((s, i) => {
    const next = known[i + 1]
    const took = next ? Math.max(0, +new Date(next.at) - +new Date(s.at)) : undefined
    return { ...s, took, wide: took === undefined ? 0 : Math.log10(took + 10) }
  })
})
</script>

<template>
  <p v-if="error" class="panel" role="alert">{{ error.message }}</p>
  <template v-if="a">
    <section class="panel">
      <div class="row spread">
        <div class="row">
          <h1 class="path">{{ harmless(a.path) }}</h1>
          <StateMark :state="a.state" />
        </div>
        <div class="row">
          <router-link v-if="['refused', 'failed'].includes(a.state) && !a.is_list" :to="`/feeds/${a.feed}/edit?path=${encodeURIComponent(a.path)}`" class="button">Change the feed for it…</router-link>
          <template v-for="v in verbs" :key="v.verb">
            <AskReason v-if="v.from.includes(a.state) || (v.verb === 'release' && a.waivable)" :label="v.label" :title="`${v.label}: ${a.path}`" :about="v.about" :act="decide(v.verb)" />
          </template>
          <router-link v-if="(a.state === 'loaded' || a.state === 'recalled') && !a.is_list" :to="`/arrivals/${a.id}/recall`" class="button">{{ a.state === 'loaded' ? 'Recall…' : 'Put back…' }}</router-link>
        </div>
      </div>
      <p v-if="a.reason" class="reason" :class="a.state">
        {{ harmless(a.reason) }}
        <router-link v-if="a.copy_of" :to="`/arrivals/${a.copy_of}`">See arrival {{ a.copy_of }}.</router-link>
      </p>
      <dl class="facts">
        <dt>Arrival</dt>
        <dd>
          {{ a.id }} of <router-link :to="`/feeds/${a.feed}`">{{ a.feed }}</router-link><template v-if="a.version">, by version {{ a.version }}</template><template v-if="a.run">, run {{ a.run }}</template>
        </dd>
        <template v-if="a.mends">
          <dt>Mends</dt>
          <dd>rejects of <router-link :to="`/arrivals/${a.mends}`">arrival {{ a.mends }}</router-link></dd>
        </template>
        <dt>File</dt>
        <dd>{{ bytes(a.size) }}, modified <span :title="exact(a.modified)">{{ time(a.modified) }}</span></dd>
        <template v-if="Object.keys(a.captures ?? {}).length">
          <dt>Its name says</dt>
          <dd>
            <span v-for="(v, k) in a.captures" :key="k" class="says">{{ k }} <strong>{{ k === 'slot' ? time(String(v)) : v }}</strong></span>
          </dd>
        </template>
        <template v-if="a.delivery">
          <dt>Delivery</dt>
          <dd>{{ a.delivery }}</dd>
        </template>
        <template v-if="a.away">
          <dt>Lies now</dt>
          <dd>
            <template v-if="a.away === 'done'">{{ a.away_to || 'nowhere: it was deleted from the landing' }}</template>
            <template v-else>{{ a.away === 'wanted' ? 'at the landing, about to be put away' : 'at the landing; it could not be put away' }}</template>
          </dd>
        </template>
        <template v-if="a.sha256">
          <dt>SHA-256</dt>
          <dd class="mono">{{ a.sha256 }}</dd>
        </template>
        <template v-if="a.attempts > 1">
          <dt>Attempts</dt>
          <dd>{{ a.attempts }}<template v-if="a.try_after">, the next {{ time(a.try_after) }}</template></dd>
        </template>
      </dl>
    </section>
    <section class="panel">
      <h2>Where every row went</h2>
      <BalanceBar :balance="a.balance" />
    </section>
    <section class="panel">
      <h2>Its life</h2>
      <ol class="life">
        <li v-for="s in steps" :key="s.name" :style="{ flexGrow: s.wide }" :title="exact(s.at)">
          <span class="dot" aria-hidden="true" />
          <div class="step">{{ s.name }}</div>
          <div class="quiet">{{ time(s.at) }}</div>
          <div v-if="s.took !== undefined" class="took quiet">{{ duration(s.took) }}</div>
        </li>
      </ol>
    </section>
    <section v-if="checks?.items.length" class="panel">
      <h2>What the checks saw</h2>
      <CheckResults :results="checks.items" :feed="a.feed" />
    </section>
    <section v-if="decisions?.items.length" class="panel">
      <GridTable name="decisions">
        <template #head>
          <h2>What people decided</h2>
        </template>
        <tbody>
          <tr v-for="d in decisions.items" :key="d.id">
            <td class="t" :title="exact(d.at)">{{ time(d.at) }}</td>
            <td>{{ d.what }}</td>
            <td>{{ d.by }}</td>
            <td>{{ d.because }}</td>
          </tr>
        </tbody>
      </GridTable>
    </section>
    <section v-if="a.balance.rejected" class="panel">
      <h2>{{ count(a.balance.rejected) }} rejected {{ a.balance.rejected === 1 ? 'row' : 'rows' }}</h2>
      <RejectTable v-if="rejects" :rejects="rejects.items" />
      <p v-if="rejects && rejects.items.length < a.balance.rejected" class="quiet">and {{ count(a.balance.rejected - rejects.items.length) }} more that are counted but not kept</p>
    </section>
    <section v-if="a.state === 'loaded'" class="panel">
      <h2>Its rows in the table</h2>
      <RowTable v-if="rows?.rows.length" :rows="rows" />
      <p v-else-if="rows" class="nothing">None: it changed nothing, or later arrivals have changed all its rows since.</p>
    </section>
  </template>
</template>

<style scoped>
.path {
  overflow-wrap: anywhere;
}
.reason {
  margin: 6px 0 10px;
}
.reason.refused,
.reason.failed {
  color: var(--bad);
}
.facts {
  margin-top: 8px;
}
.says {
  margin-right: 14px;
}
.life {
  display: flex;
  list-style: none;
  margin: 0;
  padding: 0;
}
@media (max-width: 640px) {
  .life {
    flex-wrap: wrap;
  }
}
.life li {
  position: relative;
  min-width: 88px;
  padding-top: 18px;
  border-top: 2px solid var(--felt-soft);
  margin-top: 6px;
}
.life li:last-child {
  border-top-color: transparent;
}
.dot {
  position: absolute;
  top: -7px;
  left: 0;
  width: 12px;
  height: 12px;
  box-sizing: border-box;
  border-radius: 50%;
  background: var(--paper);
  border: 3px solid var(--felt);
}
.step {
  font-weight: 600;
}
.took {
  position: absolute;
  top: 1px;
  left: 22px;
  font-size: 11px;
}
</style>
