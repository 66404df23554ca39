<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { NButton, NCheckbox, NSelect, useMessage } from 'naive-ui'
import { computed, onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, got, type Rehearsal } from '../api/client'
import BalanceBar from '../components/BalanceBar.vue'
import CheckResults from '../components/CheckResults.vue'
import { base } from '../base'
import FilePick from '../components/FilePick.vue'
import GridTable from '../components/GridTable.vue'
import RejectTable from '../components/RejectTable.vue'
import WorkProgress from '../components/WorkProgress.vue'
import { duration, harmless } from '../format'
import { loads } from '../live'

// What a load would do to the real table. Nothing is loaded. Without a feed, or
// with another feed file, it rehearses with one that is not put yet.
const route = useRoute()
const router = useRouter()
const message = useMessage()
const feed = computed(() => String(route.params.feed ?? ''))
const { data: files } = useQuery({
  queryKey: ['files', feed],
  queryFn: () => got(api.GET('/api/v1/feeds/{feed}/files', { params: { path: { feed: feed.value }, query: { limit: 1000 } } })),
  enabled: computed(() => !!feed.value),
})
const options = computed(() => [
  { value: '', label: 'The file that would be next' },
  ...(files.value?.items ?? []).filter((f) => f.taken).map((f) => ({ value: f.path, label: f.state ? `${f.path} (${f.state})` : f.path })),
])
const path = ref(String(route.query.path ?? ''))
const deep = ref(false)
const own = ref<File>()
const definition = ref<File>()
const asked = ref<AbortController>()
const problem = ref('')
const out = ref<Rehearsal>()

async function go() {
  const { signal } = (asked.value = new AbortController())
  problem.value = ''
  out.value = undefined
  const q = new URLSearchParams({ deep: String(deep.value) })
  if (!definition.value) q.set('feed', feed.value)
  if (path.value && !own.value) q.set('path', path.value)
  let body: FormData | undefined
  if (own.value || definition.value) {
    body = new FormData()
    if (definition.value) body.append('definition', definition.value, definition.value.name)
    if (own.value) body.append('file', own.value, own.value.name)
  }
  try {
    const answer = await fetch(`${base}/api/v1/rehearsals?${q}`, { method: 'POST', body, signal })
    const said = (await answer.json()) as Rehearsal & { detail?: string; errors?: { location?: string; message: string }[] }
    if (answer.ok) out.value = said
    else problem.value = [said.detail ?? 'The service refused.', ...(said.errors ?? []).map((e) => `${e.location}: ${e.message}`)].join('\n')
  } catch {
    problem.value = signal.aborted ? 'Cancelled. A rehearsal changes nothing.' : 'The service does not answer.'
  } finally {
    asked.value = undefined
  }
}
onMounted(() => feed.value && go())

// put keeps the feed file that was rehearsed with.
async function put() {
  const file = definition.value
  if (!file || !out.value) return
  const name = out.value.feed
  try {
    const said = await got(api.PUT('/api/v1/feeds/{feed}', { params: { path: { feed: name } }, body: { file: file.name, definition: await file.text() } }))
    message.success(`${name} is put, as version ${said.version}.`)
    void router.push(`/feeds/${name}`)
  } catch (e) {
    problem.value = (e as Error).message
  }
}
const working = computed(() => loads.value.filter((l) => l.work === 'rehearsal' && (!feed.value || l.feed === feed.value)))
const rejects = computed(() => (out.value?.rejects ?? []).map((r) => ({ ...r, path: out.value!.path })))
</script>

<template>
  <section class="panel">
    <h1 v-if="feed">
      Rehearsal of <router-link :to="`/feeds/${feed}`">{{ feed }}</router-link>
    </h1>
    <h1 v-else>Rehearsal of a feed file that is not put yet</h1>
    <p class="quiet">Says what a load would do to the real table, in a read-only snapshot. Nothing is loaded, nothing is locked.</p>
    <div class="ask">
      <span class="quiet">Feed</span>
      <span class="row">
        <span v-if="feed && !definition">{{ feed }}, as it is put, or</span>
        <FilePick v-model="definition" name="definition" accept=".yaml,.yml" :words="feed ? 'Another feed file' : 'Choose a feed file'" />
      </span>
      <span class="quiet">File</span>
      <span class="row">
        <template v-if="!own">
          <n-select v-if="feed" v-model:value="path" size="small" filterable :options="options" class="file" :input-props="{ 'aria-label': 'File' }" />
          <span v-else>The first at its landing</span>
          <span>or</span>
        </template>
        <FilePick v-model="own" name="file" words="One of your own" />
      </span>
      <span></span>
      <span class="row">
        <n-button size="small" type="primary" :loading="!!asked" :disabled="!feed && !definition" @click="go">Rehearse</n-button>
        <n-button v-if="asked" size="small" @click="asked.abort()">Cancel</n-button>
        <n-checkbox v-model:checked="deep" title="The statements are executed too, and rolled back; the table is locked meanwhile.">deep</n-checkbox>
      </span>
    </div>
  </section>
  <section v-if="asked && working.length" class="panel" role="status">
    <WorkProgress v-for="l in working" :key="l.began_at" :work="l" />
  </section>
  <p v-if="problem" class="panel bad lines" role="alert">{{ problem }}</p>
  <template v-if="out">
    <section class="panel">
      <h2 class="path">{{ harmless(out.path) }}</h2>
      <p v-if="out.refused" class="bad" role="status">It would be refused: {{ out.refused }}</p>
      <p v-else role="status">It would be loaded. This took {{ duration(out.took * 1000) }}.</p>
      <p v-if="out.known" class="quiet">Of this very file: {{ out.known }}. It is loaded again only when a person says <i>redo</i>.</p>
      <BalanceBar :balance="out.balance" />
      <p v-for="w in out.warnings" :key="w" class="bad" role="status">Look at this: {{ harmless(w) }}.</p>
      <p v-if="out.traces" class="quiet">Traces: {{ out.traces }}.</p>
      <p v-if="definition"><n-button size="small" :disabled="!!out.refused" @click="put">Put this feed</n-button> <span class="quiet">It starts to load what is at its landing.</span></p>
    </section>
    <section v-if="out.shape?.length" class="panel">
      <h2>{{ out.refused ? 'The table does not fit' : 'What would be made or changed first' }}</h2>
      <pre v-for="s in out.shape" :key="s" class="mono">{{ s }}</pre>
    </section>
    <section v-if="out.checks?.length" class="panel">
      <h2>What the checks saw</h2>
      <CheckResults :results="out.checks" />
    </section>
    <section v-if="out.samples?.length" class="panel">
      <GridTable name="rehearsed-rows">
        <template #head>
          <h2>Rows that would be written</h2>
        </template>
        <thead>
          <tr>
            <th class="n">Line</th>
            <th>Would be</th>
            <th v-for="c in out.columns" :key="c">{{ c }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="s in out.samples" :key="`${s.what}-${s.line}`">
            <td class="n">{{ s.line }}</td>
            <td>{{ s.what }}</td>
            <td v-for="(v, i) in s.values" :key="i" class="t">
              <template v-if="s.changed?.includes(i)"><del>{{ s.before?.[i] ?? 'nothing' }}</del> <ins>{{ v ?? 'nothing' }}</ins></template>
              <span v-else :class="{ nil: v === null }">{{ v ?? '–' }}</span>
            </td>
          </tr>
        </tbody>
      </GridTable>
    </section>
    <section v-if="rejects.length" class="panel">
      <h2>Rows that would be rejected</h2>
      <RejectTable :rejects="rejects" />
    </section>
  </template>
</template>

<style scoped>
.ask {
  display: grid;
  grid-template-columns: max-content minmax(0, 1fr);
  gap: 8px 16px;
  align-items: center;
}
.file {
  width: 420px;
  max-width: 100%;
}
.bad {
  color: var(--bad);
}
.lines {
  white-space: pre-wrap;
}
del {
  color: var(--quiet);
}
ins {
  text-decoration: none;
  background: var(--mark);
  border-radius: 2px;
  padding: 0 2px;
}
pre {
  margin: 0 0 6px;
  white-space: pre-wrap;
}
</style>
