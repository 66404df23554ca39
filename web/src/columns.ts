// Which columns of a table are hidden is kept in the browser, by the table's name. Cells say of which column they are
// (cards.ts), so that hiding one is a rule of style: rows to come are hidden alike.
const place = (name: string) => `mullein.columns.${name}`

/** The columns of a table that are hidden. */
export function choiceOf(name: string): string[] {
  try {
    const kept: unknown = JSON.parse(localStorage.getItem(place(name)) ?? '[]')
    return Array.isArray(kept) ? kept.map(String) : []
  } catch {
    return []
  }
}

/** Keeps which columns of a table are hidden. */
export function keepChoice(name: string, hidden: string[]) {
  if (hidden.length) localStorage.setItem(place(name), JSON.stringify(hidden))
  else localStorage.removeItem(place(name))
}

/** Has a sheet of style hide columns of a table. */
export function hide(sheet: CSSStyleSheet, name: string, hidden: string[]) {
  const is = (attribute: string, value: string) => `[${attribute}="${CSS.escape(value)}"]`
  sheet.replaceSync(hidden.map((h) => `table${is('data-table', name)} ${is('data-head', h)} { display: none !important }`).join('\n'))
}
