import { QueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'
import type { Progress } from './api/client'

/** What the pages show. It is asked for again when the service tells of news, not by the clock. */
export const queries = new QueryClient({ defaultOptions: { queries: { retry: 1, refetchOnWindowFocus: false, staleTime: Infinity } } })

/** Whether the stream of news is open. */
export const live = ref(false)

/** What is being loaded now. */
export const loads = ref<Progress[]>([])

let due: ReturnType<typeof setTimeout> | undefined
const atMostEvery = 400 // milliseconds between two rounds of asking

function refresh() {
  due ??= setTimeout(() => {
    due = undefined
    void queries.invalidateQueries()
  }, atMostEvery)
}

// A browser opens only a few connections to a service, and each stream takes
// one. So one page of all those that are open listens, and tells the others;
// when it is closed, another takes its place.
type News = { kind: 'open' | 'broken' | 'change' | 'asked' } | { kind: 'progress'; loads: Progress[] }

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
  if (news.kind === 'change' || !live.value) refresh() // before it was live, something may have been missed
  live.value = true
}

function tell(news: News) {
  take(news)
  others?.postMessage(news)
}

function open() {
  stream = new EventSource('/api/v1/events')
  stream.addEventListener('hello', () => tell({ kind: 'open' }))
  stream.addEventListener('change', () => tell({ kind: 'change' }))
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
