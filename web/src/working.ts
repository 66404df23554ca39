import type { Progress } from './api/client'
import { bytes, count, duration } from './format'

// How far work has come, in words: loads, and what else takes its time with a table.

const names: Record<Progress['work'], string> = { load: '', rebuild: 'loading afresh', recall: 'recall', preview: 'preview of a recall', verify: 'comparison with the file', rehearsal: 'rehearsal' }

const loading: Record<Progress['step'], string> = {
  claimed: 'about to begin',
  opened: 'reading',
  staged: 'read, about to be written',
  locked: 'writing',
  merged: 'written, about to be committed',
  marked: 'committing',
  committed: 'committed',
  listed: 'reading later files again',
  reread: 'comparing the rows',
  compared: 'about to be written',
}

// What other work is at where that is not what a load is at.
const otherwise: Record<Progress['work'], Partial<typeof loading>> = {
  load: {},
  rebuild: {},
  recall: { claimed: 'finding its rows' },
  preview: { claimed: 'finding its rows', compared: 'about to be shown' },
  verify: { staged: 'comparing the rows' },
  rehearsal: { staged: 'comparing the rows' },
}

/** What the work is, "" for a load. */
export const workName = (p: Progress) => names[p.work]

/** What it is at. */
export const stepName = (p: Progress) => otherwise[p.work][p.step] ?? loading[p.step]

const recallSteps: Progress['step'][] = ['claimed', 'listed', 'reread', 'compared', 'committed']

/** How much of it is done, from 0 to 1: of the bytes, or of the steps where no bytes are counted. */
export function shareDone(p: Progress): number {
  if (p.work === 'recall' || p.work === 'preview') return Math.max(0, recallSteps.indexOf(p.step)) / (recallSteps.length - 1)
  return p.size ? Math.min(1, p.bytes / p.size) : 1
}

/** Bytes of bytes, rows, the rate, how long the rest takes at that pace, and whom it waits for. */
export function howFar(p: Progress, now: number): string {
  const took = Math.max(1, now - +new Date(p.began_at))
  const out = [stepName(p)]
  if (p.size) out.push(`${bytes(Math.min(p.bytes, p.size))} of ${bytes(p.size)}`)
  if (p.rows || p.size) out.push(`${count(p.rows)} rows`)
  const share = shareDone(p)
  const reads = p.size > 0 && p.bytes > 0 && share < 1
  if (reads) out.push(`${bytes(Math.round((p.bytes / took) * 1000))} a second`)
  if (reads && took > 1000) out.push(`${duration((took * (1 - share)) / share)} left to read`)
  else if (took > 2000) out.push(`for ${duration(took)}`)
  return out.join(', ') + (p.waits ? `; waits for ${p.waits}` : '')
}
