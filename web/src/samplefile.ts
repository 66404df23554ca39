import { ref } from 'vue'
import { base } from './base'
import type { Drafts, Rehearsal, Sample } from './api/client'

/** Files that were dropped on another page, for the page that makes a feed of them. */
export const dropped = ref<File[]>([])

const wholeUpTo = 64 << 20 // bytes; of larger texts the beginning will do
const beginning = 4 << 20
const texts = /\.(csv|tsv|txt|psv|jsonl|ndjson|dat)$/i

/** What is read of a file for a sample: all of it, or the first lines of a large text. */
export async function beginningOf(file: File): Promise<File> {
  if (file.size <= beginning || !texts.test(file.name)) {
    if (file.size > wholeUpTo) throw new Error(`${file.name} has ${Math.round(file.size / 1e6)} MB; a sample of up to ${wholeUpTo >> 20} MB does.`)
    return file
  }
  const bytes = new Uint8Array(await file.slice(0, beginning).arrayBuffer())
  return new File([bytes.slice(0, bytes.lastIndexOf(10) + 1)], file.name)
}

async function sent<T>(path: string, body: FormData, signal?: AbortSignal): Promise<T> {
  const answer = await fetch(base + path, { method: 'POST', body, signal }).catch((e: unknown) => {
    throw e instanceof DOMException && e.name === 'AbortError' ? e : new Error('The service does not answer.')
  })
  const said = (await answer.json()) as T & { detail?: string; title?: string }
  if (!answer.ok) throw new Error(said.detail ?? said.title ?? 'The service refused.')
  return said
}

/** Puts a file into the landing of a feed, whole at once. */
export async function handOver(feed: string, file: File): Promise<void> {
  const at = `${base}/api/v1/feeds/${feed}/files?${new URLSearchParams({ path: file.name })}`
  const answer = await fetch(at, { method: 'POST', body: file, headers: { 'Content-Type': 'application/octet-stream' } }).catch(() => {
    throw new Error('The service does not answer.')
  })
  if (!answer.ok) throw new Error(((await answer.json()) as { detail?: string }).detail ?? `${file.name} was not taken.`)
}

/** Feeds that are proposed for files. */
export async function draftFrom(files: File[], at: string): Promise<Drafts> {
  const body = new FormData()
  for (const file of files) body.append('file', await beginningOf(file), file.name)
  return sent(`/api/v1/drafts/files?${new URLSearchParams({ at })}`, body)
}

/** What a load of a file by a feed file would do to the real table. */
export async function rehearsalOf(definition: string, of: Subject): Promise<Rehearsal> {
  if (of instanceof File) return sent('/api/v1/rehearsals', asked(definition, of))
  return sent(`/api/v1/rehearsals?${new URLSearchParams({ path: of.name })}`, asked(definition, undefined))
}

/** A body with a feed file, and with a file where there is one. */
function asked(definition: string, file: File | undefined): FormData {
  const body = new FormData()
  body.append('definition', new Blob([definition]), 'feed.yaml')
  if (file) body.append('file', file, file.name)
  return body
}

/** A file of the person's own, or one that lies at the landing of a feed; without a name, of the one that the feed file describes. */
export type Subject = File | { name: string; feed: string }

/** The beginning of a file as a feed file reads it, and what is wrong with the feed file; that alone where there is no file. */
export async function sampleOf(definition: string, of: Subject | undefined, most: number, signal: AbortSignal): Promise<Sample> {
  const at = of && !(of instanceof File) ? { ...(of.feed && { feed: of.feed }), path: of.name } : undefined
  return sent(`/api/v1/samples?${new URLSearchParams({ most: String(most), ...at })}`, asked(definition, of instanceof File ? of : undefined), signal)
}
