<script setup lang="ts">
import { computed, nextTick, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, got } from '../api/client'
import { harmless, minute } from '../format'
import { slotPage, slotsAsked } from '../slots'

// One place to go anywhere: / or Ctrl-K opens it, what is typed is looked for among pages, things to do, feeds, tables,
// files, runs, slots and days; arrows choose, Enter goes there.
const props = defineProps<{ pages: { to: string; name: string }[]; acts: { name: string; act: () => unknown }[] }>()
const router = useRouter()
const open = ref(false)
const text = ref('')
const at = ref(0)
const box = ref<HTMLDialogElement>()
const input = ref<HTMLInputElement>()

interface Hit {
  kind: string
  name: string
  more?: string
  to?: string
  act?: () => unknown
}
const found = ref<Hit[]>([])
const hits = computed<Hit[]>(() => {
  const words = text.value.trim().toLowerCase()
  const here = props.pages.filter((p) => p.name.toLowerCase().includes(words)).map((p) => ({ kind: 'page', name: p.name, to: p.to }))
  const todo = props.acts.filter((a) => words && a.name.toLowerCase().includes(words)).map((a) => ({ kind: 'do', ...a }))
  return [...(words ? here : here.slice(0, 13)), ...todo, ...found.value]
})
watch(hits, () => (at.value = Math.min(at.value, Math.max(0, hits.value.length - 1))))

let timer: ReturnType<typeof setTimeout> | undefined
let asking: AbortController | undefined
watch(text, () => {
  at.value = 0
  clearTimeout(timer)
  timer = setTimeout(look, 120)
})
async function look() {
  asking?.abort()
  const words = text.value.trim()
  if (!words) {
    found.value = []
    return
  }
  const { signal } = (asking = new AbortController())
  try {
    const filesOf = (text: string) => got(api.GET('/api/v1/arrivals', { params: { query: { text, limit: 8 } }, signal }))
    const [feeds, typed, slots] = await Promise.all([got(api.GET('/api/v1/feeds', { params: { query: { text: words, limit: 8 } }, signal })), filesOf(words), slotsOf(words, signal)])
    // Names of files are looked for as they are typed; many are in capitals.
    const files = typed.items.length ? typed : await filesOf(words.toUpperCase())
    const tables = [...new Set(feeds.items.map((f) => f.table))].filter((t) => !t.includes('{'))
    const number = /^\d+$/.test(words)
    const day = /^\d{4}-\d\d-\d\d$/.test(words)
    const [only] = feeds.items.length === 1 ? feeds.items : []
    found.value = [
      ...(number ? [{ kind: 'file', name: `Arrival ${words}`, to: `/arrivals/${words}` }, { kind: 'run', name: `Run ${words}`, more: 'its files', to: `/ledger?run=${words}` }] : []),
      ...(day ? [{ kind: 'slots', name: `Due on ${words}`, to: `/due?month=${words.slice(0, 7)}&day=${words}` }, { kind: 'files', name: `Noticed on ${words}`, to: `/ledger?day=${words}` }] : []),
      ...slots,
      ...feeds.items.map((f) => ({ kind: 'feed', name: f.name, more: f.supplier, to: `/feeds/${f.name}` })),
      ...(only ? thingsToDo(only.name) : []),
      ...tables.map((t) => ({ kind: 'table', name: t, to: `/targets/${t}` })),
      ...files.items.map((a) => ({ kind: 'file', name: harmless(a.path), more: `${a.feed}, ${a.state}`, to: `/arrivals/${a.id}` })),
    ]
  } catch {
    if (!signal.aborted) found.value = []
  }
}

// Slots are found by their number, and by the clock at which they are due: "K2 07:15", "gauge 2026-11-28 07:15".
async function slotsOf(words: string, signal: AbortSignal): Promise<Hit[]> {
  const asked = slotsAsked(words, new Date())
  if (!asked) return []
  const slots = await got(api.GET('/api/v1/slots', { params: { query: { ...asked, limit: 8 } }, signal }))
  return slots.items.map((s) => ({ kind: 'slot', name: [s.feed, ...Object.values(s.per ?? {}), `due ${minute(s.due_at)}`].join(' '), more: s.state, to: slotPage(s) }))
}

// What one comes for to a feed, once it is clear which.
function thingsToDo(feed: string): Hit[] {
  return [
    { kind: 'slots', name: `Due of ${feed}`, to: `/due?feed=${feed}` },
    { kind: 'files', name: `Files of ${feed}`, to: `/ledger?feed=${feed}` },
    { kind: 'rows', name: `Rejects of ${feed}`, to: `/rejects?feed=${feed}` },
    { kind: 'do', name: `Change ${feed}`, to: `/feeds/${feed}/edit` },
    { kind: 'do', name: `Rehearse a file of ${feed}`, to: `/feeds/${feed}/rehearsal` },
    { kind: 'do', name: `Volumes of ${feed}`, to: `/volumes?feed=${feed}` },
  ]
}

function go(hit: Hit | undefined) {
  if (!hit) return
  box.value?.close()
  if (hit.to) void router.push(hit.to)
  else void hit.act?.()
}
function keys(e: KeyboardEvent) {
  const step = { ArrowDown: 1, ArrowUp: -1 }[e.key]
  if (step && hits.value.length) {
    e.preventDefault()
    at.value = (at.value + step + hits.value.length) % hits.value.length
    void nextTick(() => document.getElementById(`hit-${at.value}`)?.scrollIntoView({ block: 'nearest' }))
  } else if (e.key === 'Enter') go(hits.value[at.value])
}
function show() {
  text.value = ''
  found.value = []
  open.value = true
  void nextTick(() => {
    if (box.value?.open === false) box.value.showModal()
    input.value?.focus()
  })
}
function listen(e: KeyboardEvent) {
  const typing = e.target instanceof HTMLElement && (e.target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(e.target.tagName))
  if ((e.key === '/' && !typing && !e.ctrlKey && !e.metaKey && !e.altKey) || (e.key === 'k' && (e.ctrlKey || e.metaKey))) {
    e.preventDefault()
    show()
  }
}
onMounted(() => addEventListener('keydown', listen))
onBeforeUnmount(() => {
  removeEventListener('keydown', listen)
  clearTimeout(timer)
  asking?.abort()
})
</script>

<template>
  <button type="button" class="find" title="Search: / or Ctrl-K" @click="show">Search <kbd>/</kbd></button>
  <dialog v-if="open" ref="box" class="dialog box" aria-label="Search" @close="open = false" @click.self="box?.close()">
    <div class="inside">
      <input ref="input" v-model="text" type="search" role="combobox" aria-label="Search pages, feeds, tables, files, runs, slots and things to do" aria-expanded="true" aria-controls="hits" :aria-activedescendant="hits.length ? `hit-${at}` : undefined" placeholder="A page, a feed, a table, a file, a number, a day, K2 07:15, or what to do" autocomplete="off" @keydown="keys" />
      <ul id="hits" role="listbox" aria-label="What was found">
        <li v-for="(h, i) in hits" :id="`hit-${i}`" :key="`${h.kind} ${h.name}`" role="option" :aria-selected="i === at" :class="{ chosen: i === at }" @click="go(h)" @mousemove="at = i">
          <span class="quiet kind">{{ h.kind }}</span> <span class="name">{{ h.name }}</span> <span class="quiet">{{ h.more }}</span>
        </li>
      </ul>
      <p v-if="!hits.length" class="nothing" role="status">Nothing is called that.</p>
    </div>
  </dialog>
</template>

<style scoped>
.find {
  border: 1px solid var(--line);
  border-radius: 3px;
  background: none;
  color: var(--quiet);
  font: inherit;
  padding: 2px 8px;
  cursor: pointer;
}
kbd {
  border: 1px solid var(--line);
  border-radius: 3px;
  padding: 0 4px;
  font-size: 11px;
}
.box {
  margin-top: 12vh;
  width: min(580px, calc(100vw - 24px));
}
.inside {
  padding: 12px 14px;
}
input {
  width: 100%;
  box-sizing: border-box;
  border: 1px solid var(--line);
  border-radius: 4px;
  background: var(--paper);
  color: var(--ink);
  font: inherit;
  font-size: 15px;
  padding: 7px 10px;
}
ul {
  list-style: none;
  margin: 8px 0 0;
  padding: 0;
  max-height: 50vh;
  overflow-y: auto;
}
li {
  display: flex;
  gap: 10px;
  padding: 4px 8px;
  border-radius: 3px;
  cursor: pointer;
}
.kind {
  width: 40px;
}
.name {
  overflow-wrap: anywhere;
}
.chosen {
  background: var(--soft);
  box-shadow: inset 2px 0 var(--sun);
}
</style>
