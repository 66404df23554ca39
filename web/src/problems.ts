import type { Problem } from './api/client'
import { count, time } from './format'

/** What kinds of problems are called. */
export const words: Record<string, string> = {
  late: 'late', missing: 'missing', refused: 'refused', failed: 'failed', held: 'held', rejects: 'many rejects', warning: 'a check warns', table: 'the table does not fit', landing: 'the landing is away',
  database: 'the database is away', disk: 'the disk is short of room', stopped: 'not working', rollup: 'rollup not kept', service: 'a service was lost', outlet: 'an outlet fails', extract: 'an extract failed', ending: 'about to end',
}

/** The mark of a kind, as StateMark draws it. */
export const markOf = (kind: string) => (({ late: 'late', missing: 'missing', held: 'held', rejects: 'refused', warning: 'held', refused: 'refused', ending: 'late' }) as Record<string, string>)[kind] ?? 'failed'

/** Kinds that keep nothing from being loaded. */
export const mild = (p: Problem) => ['rejects', 'warning', 'ending'].includes(p.kind)

type Part = Problem['parts'][number]

/** The page that says more of a part. */
export function pageOf(p: Problem, t: Part): string {
  if (t.arrival) return p.kind === 'rejects' ? `/rejects?feed=${t.feed}` : `/arrivals/${t.arrival}`
  if (t.slot) return `/due?feed=${t.feed}`
  return t.feed ? `/feeds/${t.feed}` : (whose(p).to ?? '/runs')
}

/** What is wrong with a part, without the cause, which stands above it. */
export const wordsOf = (p: Problem, t: Part) => (t.what.startsWith(`${p.cause}: `) ? t.what.slice(p.cause.length + 2) : t.what)

/** Whose problem it is: a supplier, a feed, or something else. */
export function whose(p: Problem): { name: string; to?: string } {
  const [, of, name = ''] = /^(\w+) (.*)$/s.exec(p.cause) ?? []
  const pages: Record<string, string> = { supplier: '/feeds?text=', feed: '/feeds/', extract: '/extracts/', table: '/targets/', rollup: '/chains?of=' }
  if (of && pages[of]) return { name, to: pages[of] + encodeURIComponent(name) }
  return { name: p.cause, to: p.kind === 'outlet' ? '/notices' : p.kind === 'landing' ? '/places' : undefined }
}

const several = (n: number, one: string) => `${count(n)} ${one}${n === 1 ? '' : 's'}`

/** What is wrong, in numbers: "6 slots of K2, since 07:15". */
export function summary(p: Problem): string {
  const lasting = p.parts.filter((t) => !t.over_at)
  const pers = new Set(lasting.map((t) => Object.values(t.due?.per ?? {}).join(' ')))
  const per = pers.size === 1 ? [...pers][0] : ''
  const kind = lasting.every((t) => t.slot) ? 'slot' : lasting.every((t) => t.arrival) ? 'file' : ''
  const what = kind ? several(p.lasting, kind) : p.feeds > 1 ? several(p.feeds, 'feed') : ''
  const of = per ? ` of ${per}` : kind && p.feeds > 1 ? ` of ${several(p.feeds, 'feed')}` : ''
  return `${what}${of}${what ? ', ' : ''}since ${time(p.began_at)}`
}

/** What a cure is called on its button, and what it does. */
export function cureOf(c: Problem['cures'][number]): { label: string; about: string } {
  const n = count(c.of)
  const all = c.of === 1 ? 'It is' : 'They are'
  return {
    accept: { label: c.of === 1 ? 'Take the file that came close' : `Take ${n} files that came close`, about: `${c.of === 1 ? 'The file whose name comes closest is taken' : 'For each slot the file whose name comes closest is taken'}, and loaded as if its name were right.` },
    release: { label: `Release ${several(c.of, 'file')}`, about: `${all} loaded in spite of what stood against ${c.of === 1 ? 'it' : 'them'}.` },
    redo: { label: `Load ${several(c.of, 'file')} again`, about: `${all} tried once more, with the feed as it is now.` },
    excuse: { label: `Excuse ${several(c.of, 'slot')}`, about: `${c.of === 1 ? 'It' : 'They'} need not be filled, and nobody is told of ${c.of === 1 ? 'it' : 'them'} any more. A file that comes all the same is loaded.` },
    skip: { label: `Skip ${several(c.of, 'file')}`, about: `${all} never loaded.` },
  }[c.verb]
}
