import type { Balance } from './api/client'

// Numbers and dates are written as the reader's locale has them; clocks have 24 hours, as the names of files do.
const whole = new Intl.NumberFormat()
const tenths = new Intl.NumberFormat(undefined, { minimumFractionDigits: 1, maximumFractionDigits: 1 })

/** What stands between the thousands of a number. */
export const betweenThousands = whole.formatToParts(1_000_000).find((p) => p.type === 'group')?.value ?? ''

/** 1,234,567. */
export const count = (n: number) => whole.format(n)

export function bytes(n: number): string {
  const units = ['B', 'KiB', 'MiB', 'GiB', 'TiB']
  let i = 0
  while (n >= 1024 && i < units.length - 1) {
    n /= 1024
    i++
  }
  return `${i === 0 ? count(n) : tenths.format(n)} ${units[i]}`
}

const two = (n: number) => String(n).padStart(2, '0')

// Formats are made once: that takes longer than to write a hundred dates.
const formats = new Map<string, Intl.DateTimeFormat>()
function written(d: Date, options: Intl.DateTimeFormatOptions, locale?: string): string {
  const key = JSON.stringify([locale, options])
  let format = formats.get(key)
  if (!format) formats.set(key, (format = new Intl.DateTimeFormat(locale, options)))
  return format.format(d)
}

/** 23 Nov, with the year where it is another one. */
export const day = (d: Date, timeZone?: string) => written(d, { day: 'numeric', month: 'short', year: d.getFullYear() === new Date().getFullYear() ? undefined : 'numeric', timeZone })

/** A month with its year. */
export const month = (d: Date, timeZone?: string) => written(d, { month: 'long', year: 'numeric', timeZone })

/** The local clock at a time, as 14:05:09. */
export function clock(at: string): string {
  const d = new Date(at)
  return `${two(d.getHours())}:${two(d.getMinutes())}:${two(d.getSeconds())}`
}

/** Today's times as 14:05:09, others as 23 Nov 14:05; local. */
export function time(at: string | null | undefined): string {
  if (!at) return '–'
  const d = new Date(at)
  const now = new Date()
  if (d.getDate() === now.getDate() && d.getMonth() === now.getMonth() && d.getFullYear() === now.getFullYear()) return clock(at)
  return `${day(d)} ${two(d.getHours())}:${two(d.getMinutes())}`
}

/** The same without seconds, for what is due at a minute. */
export const minute = (at: string) => time(at).replace(/^(\d\d:\d\d):\d\d$/, '$1')

/** The reader's zone, as tz names it. */
export const zoneHere = Intl.DateTimeFormat().resolvedOptions().timeZone

/** The clock of another zone at a time, as 13:15, where it differs from that of here. */
export function clockIn(at: string, zone: string): string {
  if (!zone) return ''
  const of = (timeZone?: string) => written(new Date(at), { hour: '2-digit', minute: '2-digit', hourCycle: 'h23', timeZone }, 'en-GB')
  const there = of(zone)
  return there === of() ? '' : there
}

/** The same time to the millisecond, with its zone. */
export const exact = (at: string | null | undefined) => (at ? `${new Date(at).toString()} (${at})` : '')

export function duration(ms: number): string {
  if (ms < 1000) return `${Math.round(ms)} ms`
  if (ms < 60_000) return `${(ms / 1000).toFixed(1)} s`
  const seconds = Math.round(ms / 1000)
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min ${seconds % 60} s`
  const minutes = Math.round(ms / 60_000)
  return `${Math.floor(minutes / 60)} h ${minutes % 60} min`
}

/** How long it was from a time to another; a dash where one of them is not known. */
export const between = (from: string | null | undefined, to: string | null | undefined) => (from && to ? duration(+new Date(to) - +new Date(from)) : '–')

export const since = (at: string) => duration(Date.now() - new Date(at).getTime())

/** The places a row can have gone to, in the order in which they are shown. */
export const places: { key: keyof Balance; name: string; about: string }[] = [
  { key: 'inserted', name: 'inserted', about: 'a new key' },
  { key: 'updated', name: 'updated', about: 'changed an existing row' },
  { key: 'unchanged', name: 'unchanged', about: 'was there already, alike in every column' },
  { key: 'outdated', name: 'outdated', about: 'older than what the table holds' },
  { key: 'kept', name: 'kept', about: 'the key exists and is left alone' },
  { key: 'deleted', name: 'deleted', about: 'a row of the table that is gone, because the file says so' },
  { key: 'duplicate', name: 'duplicate', about: 'lost against another row with its key' },
  { key: 'left_out', name: 'left out', about: 'the feed leaves it out' },
  { key: 'rejected', name: 'rejected', about: 'could not be read or broke a check' },
  { key: 'withheld', name: 'withheld', about: 'a good row of a refused arrival' },
]

/** Control characters and marks of the direction of writing are shown as Go writes them. */
export const harmless = (s: string | null | undefined) =>
  (s ?? '').replace(/[\u0000-\u001f\u007f-\u009f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ufeff]/g, (c) => {
    const code = c.charCodeAt(0)
    return ({ '\n': '\\n', '\r': '\\r', '\t': '\\t' } as Record<string, string>)[c] ?? (code < 0x80 ? `\\x${code.toString(16).padStart(2, '0')}` : `\\u${code.toString(16).padStart(4, '0')}`)
  })
