import { QueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'
import type { Progress } from './api/client'

/** What the pages show. It is asked for again when the service tells of news, not by the clock. */
export const queries = new QueryClient({ defaultOptions: { queries: { retry: 1, refetchOnWindowFocus: false, staleTime: Infinity } } })

/** Whether the stream of news is open. */
export const live = ref(false)

/** What is being loaded now. */
export const loads = ref<Progress[]>([])

let stream: EventSource | undefined
let due: ReturnType<typeof setTimeout> | undefined
const atMostEvery = 400 // milliseconds between two rounds of asking

function refresh() {
  due ??= setTimeout(() => {
    due = undefined
    void queries.invalidateQueries()
  }, atMostEvery)
}

/** Begins to listen. The browser opens the stream again by itself when it breaks. */
export function listen() {
  if (stream) return
  stream = new EventSource('/api/v1/events')
  stream.addEventListener('hello', () => {
    if (!live.value) refresh() // something may have been missed
    live.value = true
  })
  stream.addEventListener('change', refresh)
  stream.addEventListener('progress', (e) => {
    loads.value = (JSON.parse((e as MessageEvent<string>).data) as { loads: Progress[] }).loads
  })
  stream.onerror = () => {
    live.value = false
    if (stream?.readyState === EventSource.CLOSED) {
      stream = undefined
      setTimeout(listen, 2000)
    }
  }
}

export function stopListening() {
  stream?.close()
  stream = undefined
  live.value = false
}
