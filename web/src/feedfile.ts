import type { Sample } from './api/client'
import { isMap, isScalar, isSeq, parseDocument, type Document, type YAMLMap, type YAMLSeq } from 'yaml'

/** What is wrong at a place of a feed file. */
export type Wrong = Sample['wrong'][number]

/** What can be changed of a column. */
export interface ColumnChange {
  name?: string
  type?: string
  format?: string
  key?: boolean
}

/** The name of the feed that a file is of; empty where it has none. */
export function feedName(text: string): string {
  const name = parseDocument(text).get('feed')
  return typeof name === 'string' ? name : ''
}

/** Whether the columns stand in the file itself, so that they can be changed one by one. */
export function hasFields(text: string): boolean {
  return fields(parseDocument(text)) !== undefined
}

function fields(doc: Document): YAMLSeq | undefined {
  const list = doc.getIn(['schema', 'fields'])
  return isSeq(list) ? list : undefined
}

function fieldNamed(doc: Document, name: string): YAMLMap | undefined {
  return fields(doc)?.items.find((f): f is YAMLMap => isMap(f) && f.get('name') === name)
}

function keyOf(doc: Document): string[] {
  const key: unknown = doc.getIn(['schema', 'primaryKey'])
  if (isSeq(key)) return key.items.map((k) => String(isScalar(k) ? k.value : k))
  return typeof key === 'string' ? [key] : []
}

/** The text of a feed file with a column changed, and all else as it is. A column that is renamed keeps where it is read from. */
export function changeColumn(text: string, column: string, change: ColumnChange): string {
  const doc = parseDocument(text)
  const field = fieldNamed(doc, column)
  if (!field) return text
  if (change.type !== undefined) {
    field.set('type', change.type)
    field.delete('format') // it was that of the other type
  }
  if (change.format !== undefined) {
    if (change.format) field.set('format', change.format)
    else field.delete('format')
  }
  let key = keyOf(doc)
  if (change.name && change.name !== column) {
    if (!field.has('source')) field.set('source', column)
    else if (field.get('source') === change.name) field.delete('source')
    field.set('name', change.name)
    key = key.map((k) => (k === column ? change.name! : k))
  }
  if (change.key !== undefined) key = change.key ? [...key.filter((k) => k !== column), column] : key.filter((k) => k !== column)
  const before = keyOf(doc)
  if (key.join('\n') !== before.join('\n')) {
    const node = doc.createNode(key, { flow: true })
    if (key.length) doc.setIn(['schema', 'primaryKey'], node)
    else doc.deleteIn(['schema', 'primaryKey'])
  }
  return doc.toString({ lineWidth: 0, flowCollectionPadding: false })
}

/** A JSON Schema, as far as completion looks at it. */
export interface Grammar {
  properties?: Record<string, Grammar>
  items?: Grammar
  anyOf?: Grammar[]
  enum?: unknown[]
  description?: string
  additionalProperties?: boolean | Grammar
}

/** The grammar at a path of keys; '-' stands for an item of a list. */
export function grammarAt(grammar: Grammar, path: string[]): Grammar | undefined {
  let at: Grammar | undefined = grammar
  for (const part of path) {
    const ways: Grammar[] = at ? [at, ...(at.anyOf ?? [])] : []
    at = undefined
    for (const g of ways) {
      const below: Grammar | undefined = part === '-' ? g.items : (g.properties?.[part] ?? (typeof g.additionalProperties === 'object' ? g.additionalProperties : undefined))
      at ??= below
    }
  }
  return at
}

/** The keys that a grammar knows, with what they mean. */
export function keysOf(grammar: Grammar | undefined): [string, Grammar][] {
  return [grammar, ...(grammar?.anyOf ?? [])].flatMap((g) => Object.entries(g?.properties ?? {}))
}

/** Where the end of a text stands in YAML: below which keys, and, behind "key:", of which key the value is. */
export function placeIn(before: string): { path: string[]; key?: string } {
  const lines = before.split('\n')
  const last = lines.pop() ?? ''
  let indent = /^ */.exec(last)![0].length
  const path: string[] = []
  // Upwards, each line that stands further left is what this is below of.
  for (const line of lines.reverse()) {
    const m = /^( *)(- )?(?:([\w$]+):)?/.exec(line)!
    if (!line.trim() || line.trim().startsWith('#') || m[1]!.length >= indent) continue
    if (m[2]) path.unshift('-')
    if (m[3] && !(m[2] && m[1]!.length + 2 === indent)) path.unshift(m[3])
    indent = m[1]!.length
  }
  let rest = last.trimStart()
  if (rest.startsWith('- ')) {
    path.push('-')
    rest = rest.slice(2)
  }
  // In the line itself, braces go further down.
  let key: string | undefined
  const open: (string | undefined)[] = []
  for (const [token] of rest.matchAll(/[{}[\],]|"[^"]*"|'[^']*'|[\w$]+:(?= |$)/g)) {
    if (token === '{' || token === '[') {
      open.push(key)
      if (key) path.push(key)
      if (token === '[') path.push('-')
      key = undefined
    } else if (token === '}' || token === ']') {
      if (token === ']') path.pop()
      if (open.pop()) path.pop()
      key = undefined
    } else if (token === ',') key = undefined
    else if (token.endsWith(':') && !/^["']/.test(token)) key = token.slice(0, -1)
  }
  return { path, key }
}
