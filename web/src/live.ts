import { QueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'
import type { Progress } from './api/client'
import { base } from './base'

/** What the pages show. It is asked for again when the service tells of news, not by the clock. */
export const queries = new QueryClient({
  defaultOptions: { queries: { retry: 1, refetchOnWindowFocus: false, staleTime: Infinity, ...{ shallow: true } } }, // answers are replaced as a whole, and need no watching within
})

/** Whether the stream of news is open. */
export const live = ref(false)

/** What is being loaded now. */
export const loads = ref<Progress[]>([])

// What is asked for again when something of a kind changed: the first parts of the
// keys of queries. Of a single arrival, run or feed only its own page asks again.
const concerned: Record<string, string[]> = {
  arrival: ['decisions', 'day', 'status', 'arrivals', 'feeds', 'slots', 'rejects', 'reject-groups'],
  load: ['chains', 'extract-windows', 'target', 'row', 'rows', 'checks', 'check', 'rollups', 'loads'],
  rollup: ['chains', 'rollups', 'target', 'rows'],
  run: ['runs', 'decisions'],
  slot: ['day', 'status', 'slots', 'slot-counts', 'feeds', 'decisions'],
  feed: ['status', 'feeds', 'day', 'versions', 'plan', 'chains'],
  extract: ['extracts', 'extract', 'extract-windows', 'status'],
  notice: ['notices', 'outlets'],
  problem: ['problems'],
}

/** What happened, as an event tells it. */
interface Change {
  kind: string
  feed: string
  arrival: number
  run: number
}

let due: ReturnType<typeof setTimeout> | undefined
let changes: Change[] = []
let everything = false
const atMostEvery = 400 // milliseconds between two rounds of asking
const busy = 20 // changes of one round from which on the next waits longer
const busyEvery = 1000

function concerns(key: readonly unknown[], kinds: Set<string>, names: Set<unknown>): boolean {
  const [first] = key
  for (const kind of kinds) if (concerned[kind]?.includes(String(first))) return true
  // A page of one feed, arrival or run has its name or number in the key.
  return key.slice(1).some((part) => names.has(part) || (typeof part === 'string' && names.has(Number(part))))
}

function refresh(change?: Change) {
  if (change) changes.push(change)
  else everything = true
  due ??= setTimeout(
    () => {
      const kinds = new Set(changes.map((c) => c.kind))
      const names = new Set<unknown>(changes.flatMap((c) => [c.feed, c.arrival, c.run]).filter(Boolean))
      const all = everything
      due = undefined
      changes = []
      everything = false
      void queries.invalidateQueries(all ? {} : { predicate: (q) => concerns(q.queryKey, kinds, names) })
    },
    changes.length > busy ? busyEvery : atMostEvery,
  )
}

// A browser opens only a few connections to a service, and each stream takes
// one. So one page of all those that are open listens, and tells the others;
// when it is closed, another takes its place.
type News = { kind: 'open' | 'broken' | 'asked' } | { kind: 'change'; change: Change } | { kind: 'progress'; loads: Progress[] }

let others: BroadcastChannel | undefined
let release: (() => void) | undefined
let stream: EventSource | undefined

function take(news: News) {
  if (news.kind === 'asked') {
    if (stream && live.value) others?.postMessage({ kind: 'open' })
    return
  }
  if (news.kind === 'broken') {
    live.value = false
    return
  }
  if (news.kind === 'progress') loads.value = news.loads
  if (news.kind === 'change') refresh(news.change)
  if (!live.value) refresh() // before it was live, something may have been missed
  live.value = true
}

function tell(news: News) {
  take(news)
  others?.postMessage(news)
}

function open() {
  stream = new EventSource(`${base}/api/v1/events`)
  stream.addEventListener('hello', () => tell({ kind: 'open' }))
  stream.addEventListener('change', (e) => tell({ kind: 'change', change: JSON.parse((e as MessageEvent<string>).data) as Change }))
  stream.addEventListener('progress', (e) => tell({ kind: 'progress', loads: (JSON.parse((e as MessageEvent<string>).data) as { loads: Progress[] }).loads }))
  stream.onerror = () => {
    tell({ kind: 'broken' })
    if (stream?.readyState === EventSource.CLOSED) setTimeout(() => release && open(), 2000) // else the browser tries on by itself
  }
}

/** Begins to listen, or to be told by another page that does. */
export function listen() {
  if (release) return
  const ended = new Promise<void>((end) => (release = end))
  others = new BroadcastChannel('news')
  others.onmessage = (e: MessageEvent<News>) => take(e.data)
  others.postMessage({ kind: 'asked' })
  const leave = new AbortController()
  void ended.then(() => leave.abort())
  const lead = () => {
    open()
    return ended
  }
  // Locks are there on loopback and over TLS; elsewhere each page listens for itself.
  if (navigator.locks) navigator.locks.request('news', { signal: leave.signal }, lead).catch(() => undefined)
  else void lead()
}

export function stopListening() {
  stream?.close()
  others?.close()
  release?.()
  stream = others = release = undefined
  live.value = false
}

// A page that the browser keeps for "back" must not keep its connection.
addEventListener('pagehide', stopListening)
addEventListener('pageshow', (e) => {
  if (e.persisted) listen()
})
