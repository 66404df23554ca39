<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { NButton, NCheckbox, NInput, NSelect, useMessage } from 'naive-ui'
import { computed, onBeforeUnmount, onMounted, ref, shallowRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, got, type Drafts, type Rehearsal, type Sample } from '../api/client'
import BalanceBar from '../components/BalanceBar.vue'
import FeedEditor from '../components/FeedEditor.vue'
import ProposalList from '../components/ProposalList.vue'
import SampleTable from '../components/SampleTable.vue'
import { changeColumn, feedName, hasFields, grammarAt, type ColumnChange, type Grammar, type Wrong } from '../feedfile'
import { harmless, time } from '../format'
import { proposalsFor, withProposal, type Proposal } from '../proposals'
import { beginningOf, draftFrom, dropped, handOver, rehearsalOf, sampleOf, type Subject } from '../samplefile'
import { signedIn } from '../session'

// A feed is made or changed here: files are dropped, feeds are proposed for them, and the feed file
// and the sample stand side by side, each the effect of the other. A feed that exists is changed in
// the same place, beside its last wording.
const route = useRoute()
const router = useRouter()
const message = useMessage()
const existing = computed(() => (route.params.feed ? String(route.params.feed) : ''))

const { data: schema } = useQuery({ queryKey: ['feed-schema'], queryFn: () => got(api.GET('/api/v1/feed-schema')) })
const grammar = computed(() => schema.value as Grammar | undefined)
const types = computed(() => (grammarAt(grammar.value ?? {}, ['schema', 'fields', '-', 'type'])?.enum ?? []).map(String))

const { data: versions } = useQuery({
  queryKey: ['versions', existing],
  queryFn: () => got(api.GET('/api/v1/feeds/{feed}/versions', { params: { path: { feed: existing.value } } })),
  enabled: computed(() => !!existing.value),
})
const last = computed(() => versions.value?.items[0])

// The wordings at hand: of each feed that is proposed, or of the one that is changed.
const texts = ref<string[]>([])
const chosen = ref(0)
const text = computed({
  get: () => texts.value[chosen.value] ?? '',
  set: (now) => (texts.value[chosen.value] = now),
})
watch(last, (v) => !texts.value.length && v && (texts.value = [v.definition]), { immediate: true })
watch(
  () => route.path, // another feed, or a new one
  () => {
    texts.value = []
    chosen.value = 0
    files.value = []
    sampled.value = sample.value = drafts.value = rehearsed.value = undefined
  },
)

// Files of the person's own.
const files = shallowRef<File[]>([])
const sampled = shallowRef<Subject>()
const at = ref(existing.value ? '' : 'in')
const drafts = shallowRef<Drafts>()
const over = ref(false)
const busy = ref(false)
const problem = ref('')
const input = ref<HTMLInputElement>()

async function take(list: File[]) {
  if (!list.length) return
  files.value = list
  problem.value = ''
  if (existing.value) await use(list[0]!)
  else await propose(() => draftFrom(list, at.value.trim() || 'in'))
}
// Feeds are proposed for what lies in the landing folder as well.
async function readFolder() {
  files.value = []
  problem.value = ''
  await propose(() => got(api.POST('/api/v1/drafts', { body: { at: at.value.trim(), connection: 'main' } })))
}
async function propose(ask: () => Promise<Drafts>) {
  busy.value = true
  try {
    const out = await ask()
    drafts.value = out
    texts.value = out.feeds.map((f) => f.definition)
    chosen.value = 0
    if (!out.feeds.length) problem.value = out.left_out.map((l) => `${l.file}: ${l.why}`).join('\n')
  } catch (e) {
    problem.value = (e as Error).message
  } finally {
    busy.value = false
  }
}
function drop(e: DragEvent) {
  over.value = false
  void take([...(e.dataTransfer?.files ?? [])]) // the event forgets them when it is over
}
async function use(file: File) {
  try {
    sampled.value = await beginningOf(file)
  } catch (e) {
    problem.value = (e as Error).message
  }
}
onMounted(() => {
  // A file that lies at the landing, as one comes from a file that was refused.
  if (existing.value && route.query.path) sampled.value = { name: String(route.query.path), feed: existing.value }
  void take(dropped.value)
  dropped.value = []
})
const drafted = computed(() => drafts.value?.feeds[chosen.value])
watch(
  drafted,
  (d) => {
    const file = d && files.value.find((f) => d.files.includes(f.name))
    if (file) void use(file)
    else if (d?.files[0]) sampled.value = { name: d.files[0], feed: '' } // it lies at the landing
  },
  { immediate: true },
)

// What the feed file reads of the sample, and what is wrong with it: asked for again whenever one of
// them has changed, a moment after the last key.
const sample = shallowRef<Sample>()
const sampleTable = ref<InstanceType<typeof SampleTable>>()
const wrong = ref<Wrong[]>([])
const said = ref('')
const rows = 5000
const rowsFirst = 200 // what is seen without scrolling is read before the rest
let timer: ReturnType<typeof setTimeout> | undefined
let asking: AbortController | undefined
watch([text, sampled], () => {
  clearTimeout(timer)
  timer = setTimeout(ask, 10)
  rehearsed.value = undefined
})
onBeforeUnmount(() => {
  clearTimeout(timer)
  asking?.abort()
})
async function ask() {
  asking?.abort()
  if (!text.value) return
  const now = (asking = new AbortController())
  const before = sample.value
  const most = before && sampleTable.value?.isAtTop() ? rowsFirst : rows
  const asked = text.value
  try {
    const out = await sampleOf(asked, sampled.value, most, now.signal)
    wrong.value = out.wrong
    said.value = out.wrong.length ? 'The feed file is wrong.' : ''
    if (out.wrong.length) return
    if (most === rows || out.whole) {
      sample.value = out
      return
    }
    // What was counted before stands until all is read.
    const { read, rejected, left_out, whole } = before ?? out
    sample.value = { ...out, read, rejected, left_out, whole }
    sample.value = await sampleOf(asked, sampled.value, rows, now.signal)
  } catch (e) {
    if (now.signal.aborted) return
    wrong.value = []
    said.value = (e as Error).message
  }
}
// What the feed file might say besides.
const { data: outlets } = useQuery({ queryKey: ['outlets'], queryFn: () => got(api.GET('/api/v1/outlets')) })
const proposals = shallowRef<Proposal[]>([])
let proposing: ReturnType<typeof setTimeout> | undefined
watch([sample, said, outlets], () => {
  clearTimeout(proposing)
  proposing = setTimeout(propositions, 250) // who types sees the sample first
})
function propositions() {
  const seen = sample.value && !said.value && { sample: sample.value, names: drafted.value?.files ?? [], outlets: outlets.value?.items.map((o) => o.outlet) ?? [], who: signedIn.value?.by === 'token' ? '' : (signedIn.value?.name ?? '') }
  proposals.value = seen ? proposalsFor(text.value, seen) : []
}
onBeforeUnmount(() => clearTimeout(proposing))
const takeProposal = (p: Proposal) => (text.value = withProposal(text.value, p))
const change = (column: string, what: ColumnChange) => (text.value = changeColumn(text.value, column, what))

// What a load would do to the real table.
const rehearsed = shallowRef<Rehearsal>()
async function rehearse() {
  const file = files.value.find((f) => f.name === sampled.value?.name) ?? sampled.value
  if (!file) return
  busy.value = true
  problem.value = ''
  try {
    rehearsed.value = await rehearsalOf(text.value, file)
  } catch (e) {
    problem.value = (e as Error).message
  } finally {
    busy.value = false
  }
}

// Putting the feed, and handing it the files that were dropped.
const hand = ref(true)
const filesOf = (i: number) => (existing.value ? [] : files.value.filter((f) => drafts.value?.feeds[i]?.files.includes(f.name)))
const handed = computed(() => filesOf(chosen.value))
async function putOne(i: number) {
  const definition = texts.value[i] ?? ''
  const name = feedName(definition)
  const out = await got(api.PUT('/api/v1/feeds/{feed}', { params: { path: { feed: name } }, body: { file: `${name}.yaml`, definition } }))
  message.success(`${name} is put, as version ${out.version}.`)
  for (const note of [...out.misfit, ...out.notes]) message.warning(note, { duration: 12_000 })
  if (!hand.value) return
  for (const file of filesOf(i)) await handOver(name, file).catch((e: Error) => message.error(e.message, { duration: 12_000 }))
}
// Those that cannot be put stay, and say why.
async function put(which: number[]) {
  const name = feedName(text.value)
  const left = new Set(texts.value.keys())
  busy.value = true
  problem.value = ''
  for (const i of which) {
    try {
      await putOne(i)
      left.delete(i)
    } catch (e) {
      problem.value += `${which.length > 1 ? `${feedName(texts.value[i] ?? '')}: ` : ''}${(e as Error).message}\n`
    }
  }
  busy.value = false
  if (!left.size) await router.push(which.length > 1 ? '/feeds' : `/feeds/${name}`)
  else if (drafts.value && left.size < texts.value.length) {
    drafts.value = { ...drafts.value, feeds: drafts.value.feeds.filter((_, i) => left.has(i)) }
    texts.value = texts.value.filter((_, i) => left.has(i))
    chosen.value = 0
  }
}

const comparing = ref(false)
const wordings = computed(() => (versions.value?.items ?? []).map((v) => ({ value: v.version, label: `version ${v.version}, ${time(v.put_at)}, by ${v.put_by}` })))
function takeBack(version: number) {
  const v = versions.value?.items.find((w) => w.version === version)
  if (v) text.value = v.definition
}
</script>

<template>
  <div :class="{ over }" @dragover.prevent="over = true" @dragleave.self="over = false" @drop.prevent="drop">
    <section class="panel">
      <h1 v-if="existing">
        Change <router-link :to="`/feeds/${existing}`">{{ existing }}</router-link>
      </h1>
      <h1 v-else>New feed</h1>
      <p v-if="!text && !existing" class="quiet">Drop some files that the supplier sends: they are read, and a feed is proposed for each kind of them. Nothing is kept before you put it.</p>
      <div class="row wrap">
        <input ref="input" type="file" multiple class="unseen" aria-label="Sample files" tabindex="-1" @change="take([...(input?.files ?? [])])" />
        <n-button size="small" :type="text ? 'default' : 'primary'" :loading="busy && !text" @click="input?.click()">{{ files.length ? 'Other files' : 'Choose files' }}</n-button>
        <span class="quiet">or drop them anywhere on this page</span>
        <label v-if="!existing" class="row">Landing folder <n-input v-model:value="at" size="small" class="at" placeholder="in" :input-props="{ 'aria-label': 'Landing folder' }" /></label>
        <n-button v-if="!existing" size="small" :disabled="!at.trim()" :loading="busy && !files.length" @click="readFolder">Read what lies there</n-button>
        <template v-if="existing && last">
          <n-select size="small" class="at" placeholder="An earlier wording" :options="wordings" :value="null" aria-label="An earlier wording" @update:value="takeBack" />
          <n-checkbox v-model:checked="comparing">mark what differs from version {{ last.version }}</n-checkbox>
        </template>
      </div>
      <div v-if="drafts && drafts.feeds.length > 1" class="row wrap kinds">
        <div class="row wrap" role="tablist" aria-label="Proposed feeds">
          <button v-for="(f, i) in drafts.feeds" :key="f.feed" type="button" role="tab" :aria-selected="i === chosen" :class="{ chosen: i === chosen }" @click="chosen = i">{{ f.feed }} <small class="quiet">{{ f.files.length }} files</small></button>
        </div>
        <n-button size="small" :loading="busy" @click="put([...texts.keys()])">Put all {{ texts.length }} feeds</n-button>
      </div>
    </section>
    <p v-if="problem" class="panel bad lines" role="alert">{{ problem }}</p>
    <section v-if="text" class="panel both">
      <div class="left">
        <h2>{{ sampled ? harmless(sampled.name) : 'No sample yet' }}</h2>
        <p v-if="!sampled" class="nothing">Drop a file here to see what the feed makes of it.</p>
        <p v-if="sample?.refused" class="bad" role="status">It would be refused: {{ harmless(sample.refused) }}</p>
        <p v-if="sampled && sample?.unnamed" class="bad" role="status">Its name does not belong to the feed: {{ harmless(sample.unnamed) }}</p>
        <SampleTable ref="sampleTable" v-if="sampled && sample" :sample="sample" :types="types" :fixed="!hasFields(text)" @change="change" />
        <ProposalList v-if="sampled" :proposals="proposals" @take="takeProposal" />
        <div v-if="drafted?.unsure.length" class="asks">
          <h2>Look at these</h2>
          <ul>
            <li v-for="u in drafted.unsure" :key="u">{{ harmless(u) }}</li>
          </ul>
        </div>
        <details v-if="drafted?.sure.length">
          <summary>Why it is proposed like this</summary>
          <ul>
            <li v-for="s in drafted.sure" :key="s">{{ harmless(s) }}</li>
          </ul>
        </details>
        <details v-if="drafts?.left_out.length">
          <summary>{{ drafts.left_out.length }} files that no feed is proposed for</summary>
          <ul>
            <li v-for="l in drafts.left_out" :key="l.file">{{ harmless(l.file) }}: {{ l.why }}</li>
          </ul>
        </details>
      </div>
      <div class="right">
        <div class="row spread wrap head">
          <h2>Feed file</h2>
          <div class="row wrap">
            <n-checkbox v-if="handed.length" v-model:checked="hand">and hand it {{ handed.length === 1 ? 'the file' : `the ${handed.length} files` }}</n-checkbox>
            <n-button size="small" :disabled="!!said || !sampled" :loading="busy" @click="rehearse">Rehearse</n-button>
            <n-button size="small" type="primary" :disabled="!!said || (!!existing && text === last?.definition)" :loading="busy" @click="put([chosen])">{{ existing ? 'Put the change' : 'Put the feed' }}</n-button>
          </div>
        </div>
        <template v-if="rehearsed">
          <p v-if="rehearsed.refused" class="bad" role="status">It would be refused: {{ harmless(rehearsed.refused) }}</p>
          <p v-else role="status">It would be loaded into the real table:</p>
          <BalanceBar :balance="rehearsed.balance" />
          <p v-for="w in rehearsed.warnings" :key="w" class="bad">Look at this: {{ harmless(w) }}.</p>
        </template>
        <FeedEditor v-model="text" class="file" :grammar="grammar" :wrong="wrong" :compare-with="comparing ? last?.definition : undefined" />
        <p v-if="said" class="bad" role="status">
          {{ said }}<template v-for="w in wrong" :key="`${w.line}-${w.column}`"><br />Line {{ w.line }}: {{ w.message }}</template>
        </p>
        <p v-else class="quiet" role="status">The feed file is right.</p>
      </div>
    </section>
  </div>
</template>

<style scoped>
.over {
  outline: 2px dashed var(--felt);
  outline-offset: 4px;
}
.wrap {
  flex-wrap: wrap;
}
.at {
  width: 220px;
}
.kinds {
  margin-top: 10px;
}
.kinds [role='tab'] {
  border: 1px solid var(--line);
  border-radius: 3px;
  background: none;
  color: var(--ink);
  font: inherit;
  padding: 2px 10px;
  cursor: pointer;
}
.kinds .chosen {
  border-color: var(--felt);
  box-shadow: inset 0 -2px var(--sun);
}
.both {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(0, 2fr);
  gap: 20px;
}
.head {
  margin-bottom: 8px;
}
.head h2 {
  margin: 0;
}
.file {
  height: 460px;
}
.bad {
  color: var(--bad);
}
.lines {
  white-space: pre-wrap;
}
ul {
  margin: 0 0 8px;
  padding-left: 18px;
}
summary {
  cursor: pointer;
  color: var(--quiet);
}
@media (max-width: 900px) {
  .both {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
