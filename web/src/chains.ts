import type { Chains } from './api/client'

export type ChainNode = Chains['nodes'][number]

/** A node with its place: its layer from the left, and its line from the top. */
export interface Placed extends ChainNode {
  layer: number
  line: number
}

/** Places the nodes of a graph: what comes after something lies to the right of it, and near to it. */
export function place(graph: Chains): Placed[] {
  const after = new Map<string, string[]>()
  const before = new Map<string, string[]>()
  for (const l of graph.links) {
    after.set(l.from, [...(after.get(l.from) ?? []), l.to])
    before.set(l.to, [...(before.get(l.to) ?? []), l.from])
  }
  const layers = layersOf(graph.nodes, before, after)
  const out: Placed[] = []
  let top = 0
  for (const chain of new Set(graph.nodes.map((n) => n.chain))) {
    const columns: ChainNode[][] = []
    for (const n of graph.nodes) if (n.chain === chain) (columns[layers.get(n.id) ?? 0] ??= []).push(n)
    const lines = linesOf(columns, before)
    for (const [layer, column] of columns.entries()) for (const n of column ?? []) out.push({ ...n, layer, line: top + (lines.get(n.id) ?? 0) })
    top += Math.max(...columns.map((c) => c?.length ?? 0))
  }
  return out
}

// The longest way from what comes after nothing. What goes round in a circle begins anywhere.
function layersOf(nodes: ChainNode[], before: Map<string, string[]>, after: Map<string, string[]>): Map<string, number> {
  const open = new Map(nodes.map((n) => [n.id, before.get(n.id)?.length ?? 0]))
  const layers = new Map<string, number>()
  const ready = nodes.filter((n) => !open.get(n.id)).map((n) => n.id)
  const rest = nodes.map((n) => n.id)
  while (layers.size < nodes.length) {
    const id = ready.shift() ?? rest.find((r) => !layers.has(r))!
    if (layers.has(id)) continue
    layers.set(id, Math.max(0, ...(before.get(id) ?? []).map((b) => (layers.get(b) ?? -1) + 1)))
    for (const a of after.get(id) ?? []) {
      open.set(a, (open.get(a) ?? 1) - 1)
      if (open.get(a) === 0) ready.push(a)
    }
  }
  return layers
}

// Each column in the order of what its nodes come after.
function linesOf(columns: ChainNode[][], before: Map<string, string[]>): Map<string, number> {
  const lines = new Map<string, number>()
  for (const column of columns) {
    if (!column) continue
    const wish = (n: ChainNode) => {
      const at = (before.get(n.id) ?? []).map((b) => lines.get(b)).filter((v) => v !== undefined)
      return at.length ? at.reduce((sum, v) => sum + v, 0) / at.length : 0
    }
    const wishes = new Map(column.map((n) => [n.id, wish(n)]))
    column.sort((a, b) => (wishes.get(a.id) ?? 0) - (wishes.get(b.id) ?? 0) || a.name.localeCompare(b.name))
    let next = 0
    for (const n of column) {
      const at = Math.max(next, Math.round(wishes.get(n.id) ?? 0))
      lines.set(n.id, at)
      next = at + 1
    }
  }
  return lines
}
