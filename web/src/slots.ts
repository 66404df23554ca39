import type { Slot } from './api/client'

const two = (n: number) => String(n).padStart(2, '0')

/** A day as addresses and files write it, local. */
export const dayName = (d: Date) => `${d.getFullYear()}-${two(d.getMonth() + 1)}-${two(d.getDate())}`

/** The page that shows a slot among those of its day. */
export function slotPage(s: Slot): string {
  const day = dayName(new Date(s.due_at))
  return `/due?feed=${s.feed}&month=${day.slice(0, 7)}&day=${day}&slot=${s.id}`
}

/** Which slots words ask for: a number, or a clock with other words, today or on the day that they name: "K2 2026-11-28 07:15". */
export function slotsAsked(words: string, now: Date): { number: number } | { text?: string; from: string; to: string } | undefined {
  if (/^\d{1,15}$/.test(words)) return { number: Number(words) }
  const parts = words.split(/\s+/)
  const clock = parts.find((p) => /^([01]?\d|2[0-3]):[0-5]\d$/.test(p))
  if (!clock) return undefined
  const day = parts.find((p) => /^\d{4}-\d\d-\d\d$/.test(p))
  const begin = new Date(`${day ?? dayName(now)}T${clock.padStart(5, '0')}`)
  if (isNaN(+begin)) return undefined
  const text = parts.filter((p) => p !== clock && p !== day).join(' ')
  return { text: text || undefined, from: begin.toISOString(), to: new Date(+begin + 60_000).toISOString() }
}
