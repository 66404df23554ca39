import { betweenThousands } from './format'

// RFC 4180: cells in quotes where they must be, lines end with CR LF.
const cell = (s: string) => (/[",\r\n]/.test(s) ? `"${s.replaceAll('"', '""')}"` : s)

// Numbers without the spaces between their thousands; a time as its title says it exactly; a value that is cut as its
// title has it.
function textOf(td: HTMLTableCellElement): string {
  const exact = /\((\d{4}-\d\d-\d\dT[^)]*)\)/.exec(td.title)?.[1]
  if (exact) return exact
  const seen = td.classList.contains('n') ? (td.textContent ?? '').replaceAll(betweenThousands || ' ', '') : (td.textContent ?? '')
  const text = seen.trim().replace(/\s+/g, ' ')
  if (text.endsWith('…') && td.title.startsWith(text.slice(0, -1))) return td.title
  return text === '–' ? '' : text
}

/** Rows of which not all are drawn, as CSV with a head; columns that are hidden are left out. */
export function csvOfRows(columns: string[], rows: (unknown[] | null)[], hidden: string[]): string {
  const seen = columns.flatMap((c, i) => (hidden.includes(c) ? [] : [i]))
  return [columns, ...rows].map((r) => seen.map((i) => cell(String(r?.[i] ?? ''))).join(',') + '\r\n').join('')
}

/** The rows of a table as they are seen, as CSV with a head; columns that are hidden are left out. */
export function csvOf(table: HTMLTableElement): string {
  return [...table.rows].map((r) => [...r.cells].filter((c) => getComputedStyle(c).display !== 'none').map((c) => cell(textOf(c))).join(',') + '\r\n').join('')
}
