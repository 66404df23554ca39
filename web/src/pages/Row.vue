<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { NButton, NInput } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, got, type History } from '../api/client'
import RowChange from '../components/RowChange.vue'
import { exact, harmless, time } from '../format'

// A key in, every load that touched its row out.
const route = useRoute()
const router = useRouter()
const table = computed(() => String(route.params.table))
const key = computed(() => ([] as unknown[]).concat(route.query.key ?? []).map(String))
const { data: target, error: noTarget } = useQuery({
  queryKey: ['target', table, 1],
  queryFn: () => got(api.GET('/api/v1/targets/{table}', { params: { path: { table: table.value }, query: { limit: 1 } } })),
})
const { data: history, error } = useQuery({
  queryKey: ['row', table, key],
  queryFn: () => got(api.GET('/api/v1/targets/{table}/row', { params: { path: { table: table.value }, query: { key: key.value } } })),
  enabled: computed(() => key.value.length > 0),
})

const wanted = ref<Record<string, string>>({})
watch(
  [target, key],
  () => {
    for (const k of target.value?.key ?? []) wanted.value[k] = key.value.find((x) => x.startsWith(`${k}=`))?.slice(k.length + 1) ?? wanted.value[k] ?? ''
  },
  { immediate: true },
)
const look = () => router.push({ query: { key: (target.value?.key ?? []).map((k) => `${k}=${wanted.value[k] ?? ''}`) } })

// The record beside it, where its file is still there.
type Step = History['steps'][number]
const records = ref<Record<string, { text: string; why: string }>>({})
const nameOf = (s: Step) => (s.load && s.line ? `${s.load.arrival}:${s.line}` : '')
watch(history, (h) => {
  for (const s of h?.steps ?? []) {
    const name = nameOf(s)
    if (!name || records.value[name] || !s.load) continue
    void got(api.GET('/api/v1/arrivals/{id}/original', { params: { path: { id: s.load.arrival }, query: { line: s.line } } }))
      .then((o) => (records.value[name] = o))
      .catch((e: Error) => (records.value[name] = { text: '', why: e.message }))
  }
})
const shape: Record<string, string> = { inserted: '+', updated: '~', deleted: '−', marked: '○', 'changed by hand': '✎' }
</script>

<template>
  <section class="panel">
    <h1>A row of <router-link :to="`/targets/${table}`">{{ table }}</router-link></h1>
    <p v-if="noTarget" role="alert">{{ noTarget.message }}</p>
    <p v-else-if="target && !target.key.length" class="nothing">The table has no key: its rows have no history.</p>
    <form v-else class="row asked" @submit.prevent="look">
      <label v-for="k in target?.key ?? []" :key="k">
        <span class="quiet">{{ k }}</span>
        <n-input v-model:value="wanted[k]" size="small" :placeholder="k" />
      </label>
      <n-button size="small" attr-type="submit" type="primary">Look</n-button>
    </form>
    <p v-if="error" role="alert" class="bad">{{ error.message }}</p>
    <p v-else-if="!key.length && target?.key.length" class="nothing">Give a key, as the table writes it. Rows of a feed and of an arrival lead here too.</p>
    <p v-else-if="history && !history.steps.length" class="nothing">The table has no such row, and the journal knows none.</p>
    <p v-else-if="history && !history.now" class="nothing">The table does not have the row any more.</p>
  </section>
  <section v-if="history?.now" class="panel">
    <h2>As it stands</h2>
    <RowChange :before="null" :after="history.now" :key_="history.key" all />
  </section>
  <section v-if="history?.steps.length" class="panel">
    <h2>What happened to it</h2>
    <ol class="steps">
      <li v-for="(s, i) in history.steps" :key="i" :class="{ off: s.load && !s.load.active }">
        <span class="shape" aria-hidden="true">{{ shape[s.what] }}</span>
        <div class="head">
          <strong>{{ s.what }}</strong>
          <span v-if="s.load && !s.load.active" class="quiet">recalled since</span>
          <span v-if="s.at" class="quiet" :title="exact(s.at)">{{ time(s.at) }}</span>
          <template v-if="s.load">
            <router-link :to="`/arrivals/${s.load.arrival}`">{{ harmless(s.load.path) }}</router-link><span v-if="s.line">line {{ s.line }}</span>
            <span class="quiet">arrival {{ s.load.arrival }} of {{ s.load.feed }}</span>
          </template>
        </div>
        <div v-if="!s.after && (s.what === 'inserted' || s.what === 'updated')" class="quiet">What it wrote was changed by hand since.</div>
        <div v-else><RowChange :before="s.before" :after="s.after" :key_="history.key" :all="!s.before || !s.after" /></div>
        <div v-if="records[nameOf(s)]" class="record">
          <code v-if="records[nameOf(s)]?.text" class="mono">{{ records[nameOf(s)]?.text }}</code>
          <span v-else class="quiet">Its record is not at hand: {{ records[nameOf(s)]?.why }}.</span>
        </div>
      </li>
    </ol>
    <p class="quiet">Kept for {{ target?.kept }}; what happened before that is not known any more.</p>
  </section>
</template>

<style scoped>
.asked {
  margin-top: 10px;
  align-items: end;
}
.asked label {
  display: grid;
  min-width: 210px;
}
.bad {
  color: var(--bad);
}
.steps {
  list-style: none;
  margin: 0 0 8px;
  padding: 0;
}
.steps li {
  position: relative;
  padding: 0 0 12px 30px;
  border-left: 2px solid var(--felt-soft);
  margin-left: 10px;
}
.steps li:last-child {
  border-left-color: transparent;
}
.shape {
  position: absolute;
  left: -11px;
  top: 0;
  width: 20px;
  height: 20px;
  line-height: 19px;
  text-align: center;
  border-radius: 50%;
  background: var(--felt);
  color: var(--paper);
  font-weight: 600;
}
.head > * {
  margin-right: 7px;
}
.off .shape {
  background: var(--faint);
}
.off .head strong {
  text-decoration: line-through;
}
.record code {
  background: var(--soft);
  border-radius: 3px;
  padding: 1px 5px;
  overflow-wrap: anywhere;
}
</style>
