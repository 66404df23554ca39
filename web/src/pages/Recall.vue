<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { NButton } from 'naive-ui'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { api, got, type Recalled } from '../api/client'
import AskReason from '../components/AskReason.vue'
import GridTable from '../components/GridTable.vue'
import RowChange from '../components/RowChange.vue'
import StateMark from '../components/StateMark.vue'
import WorkProgress from '../components/WorkProgress.vue'
import { count, harmless } from '../format'
import { loads } from '../live'

// What would become of the rows, and the button that does it.
const route = useRoute()
const id = computed(() => Number(route.params.id))
const path = computed(() => ({ path: { id: id.value } }))
const { data: a } = useQuery({ queryKey: ['arrival', id], queryFn: () => got(api.GET('/api/v1/arrivals/{id}', { params: path.value })) })
const back = computed(() => a.value?.state === 'recalled')
const done = ref<Recalled>()
const broken = ref(false)
const { data: preview, error, isFetching } = useQuery({
  queryKey: ['recall', id, back],
  queryFn: ({ signal }) => got(api.POST('/api/v1/arrivals/{id}/recall', { params: path.value, body: { preview: true, back: back.value }, signal })),
  retry: false,
  enabled: computed(() => !!a.value && !done.value && !broken.value),
})
const r = computed(() => done.value ?? preview.value)
const writing = ref<AbortController>()
const problem = ref('')
// The dialog is closed at once: how far it has come is seen on the page, and it can be cancelled there.
async function recall(because: string) {
  const { signal } = (writing.value = new AbortController())
  problem.value = ''
  try {
    done.value = await got(api.POST('/api/v1/arrivals/{id}/recall', { params: path.value, body: { because, back: back.value }, signal }))
  } catch (e) {
    problem.value = signal.aborted ? 'Cancelled. Nothing was changed, unless it was committing already: its state above says it.' : (e as Error).message
  } finally {
    writing.value = undefined
  }
}
const act = (because: string) => {
  void recall(because)
  return Promise.resolve()
}
const client = useQueryClient()
function cancel() {
  if (writing.value) writing.value.abort()
  else {
    broken.value = true
    void client.cancelQueries({ queryKey: ['recall', id.value] })
  }
}
const working = computed(() => loads.value.filter((l) => l.arrival === id.value && (l.work === 'recall' || l.work === 'preview')))
const verb = computed(() => (back.value !== !!done.value ? 'Put back' : 'Recall'))
const outcomes = computed(() => {
  const o = r.value?.outcome
  if (!o) return []
  return [
    { n: o.removed, name: 'removed', about: 'go from the table' },
    { n: o.restored, name: 'restored', about: 'become what they were, or what later loads make of them' },
    { n: o.returned, name: 'returned', about: 'come back' },
    { n: o.same, name: 'the same', about: 'later loads have written them wholly anew; only their history changes' },
    { n: o.left, name: 'left', about: 'somebody else has changed them since; they stay as they are' },
  ]
})
const keyOf = (row: unknown) => (r.value?.key ?? []).map((k) => String((row as Record<string, unknown>)[k])).join(', ')
</script>

<template>
  <section v-if="a" class="panel">
    <div class="row spread">
      <div class="row">
        <h1>{{ verb }}: <router-link :to="`/arrivals/${a.id}`">{{ harmless(a.path) }}</router-link></h1>
        <StateMark :state="a.state" />
      </div>
      <AskReason v-if="preview && !done && !writing" primary :label="verb" :title="`${verb}: ${a.path}`" :about="`${r?.table}: one transaction; readers see the old rows or the new.`" :act="act" />
    </div>
    <p v-if="problem" role="alert" class="bad">{{ problem }}</p>
    <p v-if="error && !done" role="alert" class="bad">{{ error.message }}</p>
    <p v-else-if="done" class="said" role="status">Done. <router-link :to="`/targets/${done.table}`">{{ done.table }}</router-link> is as shown below.</p>
    <div v-else-if="isFetching || writing" class="said" role="status">
      <p class="quiet">{{ writing ? 'The rows are being written…' : 'The rows are looked at…' }}</p>
      <WorkProgress v-for="l in working" :key="l.began_at" :work="l" />
      <p><n-button size="small" @click="cancel">Cancel</n-button></p>
    </div>
    <p v-else-if="broken" class="quiet said" role="status">Cancelled; nothing was done. <n-button size="small" @click="broken = false">Look again</n-button></p>
    <p v-else class="quiet said">
      Nothing is done yet. This is what would become of the rows of <router-link :to="`/targets/${r?.table}`">{{ r?.table }}</router-link> if arrival {{ (back ? r?.back : r?.arrivals)?.join(', ') }}
      {{ back ? 'were put back' : 'had never been loaded' }}.
    </p>
    <div v-if="r" class="outcomes">
      <div v-for="o in outcomes" :key="o.name" :class="{ nil: !o.n }" :title="o.about">
        <strong>{{ count(o.n) }}</strong> {{ o.name }}
      </div>
    </div>
  </section>
  <section v-if="r?.outcome?.samples.length" class="panel">
    <GridTable name="recalled-rows">
      <template #head>
        <h2>Some of the rows</h2>
      </template>
      <thead>
        <tr><th>What</th><th :class="{ asis: r.key.length }">{{ r.key.join(', ') || 'Row' }}</th><th>Before and after</th></tr>
      </thead>
      <tbody>
        <tr v-for="(s, i) in r.outcome.samples" :key="i">
          <td class="t">{{ s.what }}</td>
          <td class="t">
            <router-link v-if="r.key.length" :to="{ path: `/targets/${r.table}/row`, query: { key: r.key.map((k) => `${k}=${String(((s.before ?? s.after) as Record<string, unknown>)[k])}`) } }">{{ keyOf(s.before ?? s.after) }}</router-link>
          </td>
          <td><RowChange :before="s.before" :after="s.after" :key_="r.key" :all="!s.before || !s.after" /></td>
        </tr>
      </tbody>
    </GridTable>
  </section>
  <section v-if="r?.later.length" class="panel">
    <GridTable name="later-loads">
      <template #head>
        <h2>Later loads that may have left rows alone because of it</h2>
      </template>
      <thead>
        <tr><th>Arrival</th><th>Path</th><th>Its file</th></tr>
      </thead>
      <tbody>
        <tr v-for="l in r.later" :key="l.nth">
          <td class="t"><router-link :to="`/arrivals/${l.arrival}`">{{ l.arrival }}</router-link></td>
          <td class="path">{{ harmless(l.path) }}</td>
          <td>
            <span v-if="l.why" class="bad">Could not be read again: {{ harmless(l.why) }}. What it left alone stays as it is.</span>
            <template v-else>was held against these rows; {{ count(l.rows) }} of them are in it</template>
          </td>
        </tr>
      </tbody>
    </GridTable>
  </section>
</template>

<style scoped>
.said {
  margin: 8px 0;
}
.bad {
  color: var(--bad);
}
.outcomes {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 28px;
  font-size: 14px;
}
.outcomes strong {
  font-size: 19px;
  font-variant-numeric: tabular-nums;
}
.nil {
  color: var(--quiet);
}
</style>
