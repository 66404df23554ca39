// Where there is little room, tables are drawn as cards, and each cell says of which column it is.
// It is noted here for all tables of a page, those to come among them; columns are hidden by it as well.
function note(table: HTMLTableElement) {
  if (table.closest('.sample')) return
  table.classList.toggle('cards', !table.closest('.high')) // whose rows are as high as each other
  const heads = [...(table.tHead?.rows[0]?.cells ?? [])].map((h) => {
    const text = (h.textContent ?? '').replace(/[↑↓]/g, '').trim()
    const head = h.classList.contains('asis') || table.classList.contains('names') ? text : text.charAt(0).toUpperCase() + text.slice(1)
    if (h.dataset.head !== head) h.dataset.head = head
    return head
  })
  for (const body of table.tBodies) {
    for (const row of body.rows) {
      let at = 0
      for (const cell of row.cells) {
        const head = cell.colSpan === 1 ? heads[at] : ''
        if (head && cell.dataset.head !== head) cell.dataset.head = head
        at += cell.colSpan
      }
    }
  }
}

/** Notes the heads of all tables below an element, now and whenever what is below it changes. */
export function noteHeads(below: HTMLElement) {
  let due = false
  const all = () => {
    due = false
    below.querySelectorAll<HTMLTableElement>('table.grid').forEach(note)
  }
  new MutationObserver(() => {
    if (due) return
    due = true
    requestAnimationFrame(all)
  }).observe(below, { childList: true, subtree: true })
  all()
}
