import { isMap, isSeq, parseDocument, type Document } from 'yaml'
import type { Sample } from './api/client'
import { count } from './format'

/** Something that a feed file does not say yet, and might: what, why, and where it stands then. */
export interface Proposal {
  id: string
  what: string
  why: string
  apply: (doc: Document) => void
}

/** What a proposal may go by. */
export interface Seen {
  sample: Sample
  names: string[] // of the files that the feed is for
  outlets: string[] // by which people can be told
  who: string // is signed in
}

const few = 20 // values are too few to go by
const enough = 50
const lookedAt = 1000 // rows are enough to propose something, and looked through between two keys

/** What a feed file might say besides, from what was seen; none that it says already. */
export function proposalsFor(text: string, seen: Seen): Proposal[] {
  const doc = parseDocument(text)
  const out: Proposal[] = ofHeader(doc, seen.sample)
  seen.sample.columns.forEach((c, i) => {
    if (c.derived) return
    const values = seen.sample.rows.slice(0, lookedAt).map((r) => r.values[i] ?? null)
    out.push(...ofColumn(doc, c, values))
  })
  const due = ofNames(doc, seen.names)
  if (due) out.push(due)
  const first = seen.outlets[0]
  if (first && !doc.has('tell'))
    out.push({ id: 'tell', what: `Tell of missing slots and refused files by ${first}`, why: 'the feed does not say who is told, so what the settings say of all feeds holds', apply: (d) => d.set('tell', d.createNode([{ of: ['missing', 'refused', 'failed'], by: first }], { flow: false })) })
  if (seen.who && !doc.has('owner')) out.push({ id: 'owner', what: `Owner: ${seen.who}`, why: 'nobody answers for the feed yet; it stands under “Mine” of who does', apply: (d) => d.set('owner', seen.who) })
  return out
}

// Where the columns of the file are others than the feed expects: a column that is called otherwise now, one that came,
// one that went.
function ofHeader(doc: Document, sample: Sample): Proposal[] {
  if (!sample.header.length || !fieldsOf(doc)) return []
  const columns = sample.columns.filter((c) => !c.derived)
  const sources = new Map(columns.map((c) => [c.source || c.name, c]))
  const came = sample.header.filter((h) => !sources.has(h))
  const went = [...sources].filter(([source]) => !sample.header.includes(source))
  if (came.length + went.length === 0 || came.length === sample.header.length) return []
  const out: Proposal[] = []
  for (const [source, c] of went) {
    const near = came.find((h) => alike(h, source)) ?? (went.length === 1 && came.length === 1 ? came[0] : undefined)
    if (near) {
      came.splice(came.indexOf(near), 1)
      out.push({ id: `${c.name} source`, what: `Read ${c.name} from the column “${near}”`, why: `the file has no column “${source}”, and one that is called so`, apply: (d) => fieldOf(d, c.name)?.set('source', near) })
    } else out.push({ id: `${c.name} optional`, what: `Files may lack ${c.name}`, why: `this one has no column “${source}”; rows have no value then`, apply: (d) => fieldOf(d, c.name)?.set('optional', true) })
  }
  for (const h of came) {
    const name = h.normalize('NFKD').replace(/[^A-Za-z0-9]+/g, '_').replace(/^_+|_+$/g, '').toLowerCase()
    if (name && !fieldOf(doc, name)) out.push({ id: `${h} new`, what: `Read the new column “${h}” as ${name}`, why: 'the file has it and the feed does not know it; the table gets a column', apply: (d) => fieldsOf(d)?.add(d.createNode({ name, type: 'string', ...(h === name ? {} : { source: h }) }, { flow: true })) })
  }
  return out
}
const plain = (s: string) => s.toLowerCase().replace(/[^\p{L}\p{N}]/gu, '')
const alike = (a: string, b: string) => plain(a) === plain(b) || (plain(b).length > 2 && plain(a).includes(plain(b))) || (plain(a).length > 2 && plain(b).includes(plain(a)))

type Column = Sample['columns'][number]

function ofColumn(doc: Document, c: Column, values: (string | null)[]): Proposal[] {
  const field = fieldOf(doc, c.name)
  if (!field) return []
  const has = (name: string) => field.hasIn(['constraints', name])
  const constrain = (sets: Record<string, unknown>) => (d: Document) => {
    const at = fieldOf(d, c.name)
    for (const [name, value] of Object.entries(sets)) at?.setIn(['constraints', name], d.createNode(value, { flow: true }))
  }
  const there = values.filter((v) => v !== null)
  const out: Proposal[] = []
  if (there.length === values.length && values.length >= enough && !has('required') && !c.key)
    out.push({ id: `${c.name} required`, what: `${c.name} must be there`, why: `all of ${count(values.length)} rows have it`, apply: constrain({ required: true }) })
  if (there.length < few) return out
  if (c.type === 'number' || c.type === 'integer') {
    const numbers = there.map(Number).filter(Number.isFinite)
    const [least, most] = numbers.reduce(([a, b], n) => [Math.min(a, n), Math.max(b, n)], [Infinity, -Infinity])
    if (numbers.length >= few && !has('minimum') && !has('maximum') && least < most) {
      const [from, to] = bounds(least, most)
      const [low, high] = c.type === 'integer' ? [Math.floor(from), Math.ceil(to)] : [from, to]
      out.push({ id: `${c.name} bounds`, what: `${c.name} lies between ${low} and ${high}`, why: `${count(numbers.length)} values lie between ${least} and ${most}`, apply: constrain({ minimum: low, maximum: high }) })
    }
  }
  if (c.type === 'string' && !has('enum') && !has('pattern')) {
    const kinds = [...new Set(there)].sort()
    const shape = shapeOf(kinds)
    if (kinds.length <= 8 && there.length >= enough && there.length / kinds.length >= 8)
      out.push({ id: `${c.name} enum`, what: `${c.name} is one of ${kinds.join(', ')}`, why: `${count(there.length)} values are ${kinds.length === 1 ? 'all the same' : `of ${kinds.length} kinds`}`, apply: constrain({ enum: kinds }) })
    else if (shape) out.push({ id: `${c.name} pattern`, what: `${c.name} is written as ${shape}`, why: `all of ${count(there.length)} values are, such as ${kinds[0]}`, apply: constrain({ pattern: shape }) })
  }
  return out
}

/** Round bounds with room around what was seen: half as much again, and none below zero where nothing was. */
export function bounds(least: number, most: number): [number, number] {
  const room = (most - least) / 2
  const low = least >= 0 && least - room < 0 ? 0 : outward(least - room, Math.floor)
  const high = most <= 0 && most + room > 0 ? 0 : outward(most + room, Math.ceil)
  return [low, high]
}
function outward(n: number, to: (n: number) => number): number {
  if (n === 0) return 0
  const step = 10 ** (Math.floor(Math.log10(Math.abs(n))) - 1)
  return Number((to(n / step) * step).toPrecision(6))
}

/** The one regular expression that texts are written as, where their letters and digits stand at the same places; else ''. */
export function shapeOf(texts: string[]): string {
  const of = (s: string) =>
    (s.match(/[A-Z]+|[a-z]+|[0-9]+|[^A-Za-z0-9]/g) ?? [])
      .map((run) => {
        const kind = /[A-Z]/.test(run) ? '[A-Z]' : /[a-z]/.test(run) ? '[a-z]' : /[0-9]/.test(run) ? '[0-9]' : ''
        if (!kind) return run.replace(/[.*+?^${}()|[\]\\]/, '\\$&')
        return run.length > 1 ? `${kind}{${run.length}}` : kind
      })
      .join('')
  const first = texts[0] ?? ''
  if (texts.length < 3 || !first || first.length > 40 || !/[0-9]/.test(first)) return ''
  const shape = of(first)
  return texts.every((t) => of(t) === shape) ? shape : ''
}

// When the next file is due, by the times in the names of those that there are.
function ofNames(doc: Document, names: string[]): Proposal | undefined {
  if (doc.has('due') || !String(doc.getIn(['landing', 'files']) ?? '').includes('{slot')) return undefined
  const times = [...new Set(names.map(timeIn).filter((t) => t !== undefined))].sort((a, b) => a - b)
  const steps = times.slice(1).map((t, i) => t - times[i]!)
  if (steps.length < 2) return undefined
  const step = Math.min(...steps)
  const cron = cronOf(step, times[0]!)
  const even = steps.filter((s) => s % step === 0).length
  if (!cron || even < steps.length) return undefined
  const zone = String(doc.getIn(['zone']) ?? '')
  return {
    id: 'due',
    what: `A file is due ${every(step)} (${cron})`,
    why: `the names of ${times.length} files tell times ${apart(step)} apart, or several times that`,
    apply: (d) => d.set('due', d.createNode({ cron, ...(zone ? { zone } : {}), late_after: '15m', missing_after: '1h' })),
  }
}

/** The time in a name, as if it were of UTC, in minutes; undefined where there is none. */
export function timeIn(name: string): number | undefined {
  const m = /(20\d\d)[-_]?(0[1-9]|1[0-2])[-_]?(0[1-9]|[12]\d|3[01])(?:[T_ -]?([01]\d|2[0-3])[:_-]?([0-5]\d)?)?/.exec(name)
  return m ? Date.UTC(Number(m[1]), Number(m[2]) - 1, Number(m[3]), Number(m[4] ?? 0), Number(m[5] ?? 0)) / 60_000 : undefined
}

const day = 24 * 60
function cronOf(step: number, first: number): string {
  const minute = first % 60
  const hour = Math.floor(first / 60) % 24
  if (step < 60 && 60 % step === 0 && minute % step === 0) return `*/${step} * * * *`
  if (step === 60) return `${minute} * * * *`
  if (step % 60 === 0 && step < day && day % step === 0 && hour % (step / 60) === 0) return `${minute} */${step / 60} * * *`
  if (step === day) return `${minute} ${hour} * * *`
  if (step === 7 * day) return `${minute} ${hour} * * ${new Date(first * 60_000).getUTCDay()}`
  return ''
}
const apart = (minutes: number) => every(minutes).replace(/^every (\d.*)$/, '$1').replace('every', 'a')
function every(minutes: number): string {
  const of = (n: number, unit: string) => (n === 1 ? `every ${unit}` : `every ${n} ${unit}s`)
  if (minutes % (7 * day) === 0) return of(minutes / 7 / day, 'week')
  if (minutes % day === 0) return of(minutes / day, 'day')
  return minutes % 60 === 0 ? of(minutes / 60, 'hour') : of(minutes, 'minute')
}

function fieldsOf(doc: Document) {
  const list = doc.getIn(['schema', 'fields'])
  return isSeq(list) ? list : undefined
}
function fieldOf(doc: Document, name: string) {
  return fieldsOf(doc)?.items.filter(isMap).find((f) => f.get('name') === name)
}

/** The text of a feed file with a proposal taken, and all else as it is. */
export function withProposal(text: string, p: Proposal): string {
  const doc = parseDocument(text)
  p.apply(doc)
  return doc.toString({ lineWidth: 0, flowCollectionPadding: false })
}
