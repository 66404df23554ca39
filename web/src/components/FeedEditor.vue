<script setup lang="ts">
import { autocompletion, type CompletionContext, type CompletionResult } from '@codemirror/autocomplete'
import { isolateHistory } from '@codemirror/commands'
import { yaml } from '@codemirror/lang-yaml'
import { syntaxHighlighting } from '@codemirror/language'
import { classHighlighter } from '@lezer/highlight'
import { lintGutter, setDiagnostics, type Diagnostic } from '@codemirror/lint'
import { unifiedMergeView } from '@codemirror/merge'
import { Compartment, EditorState } from '@codemirror/state'
import { EditorView } from '@codemirror/view'
import { basicSetup } from 'codemirror'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { grammarAt, keysOf, placeIn, type Grammar, type Wrong } from '../feedfile'
import { dark } from '../theme'

// A feed file, with what is wrong at its line, and with what may stand where one types. With
// another wording to compare with, what differs is marked.
const props = defineProps<{ grammar?: Grammar; wrong: Wrong[]; compareWith?: string }>()
const text = defineModel<string>({ required: true })
const host = ref<HTMLElement>()
let view: EditorView | undefined
const comparing = new Compartment()
const lit = new Compartment()

function complete(context: CompletionContext): CompletionResult | null {
  const word = context.matchBefore(/[\w$]*/)
  if (!word || (word.from === word.to && !context.explicit) || !props.grammar) return null
  const { path, key } = placeIn(context.state.sliceDoc(0, word.from))
  const here = grammarAt(props.grammar, key ? [...path, key] : path)
  const options = key
    ? (here?.enum ?? []).map((v) => ({ label: String(v), type: 'enum' }))
    : keysOf(here).map(([label, g]) => ({ label, type: 'property', info: g.description, apply: `${label}: ` }))
  return options.length ? { from: word.from, options, validFor: /^[\w$]*$/ } : null
}

const compared = (with_?: string) => (with_ === undefined ? [] : [unifiedMergeView({ original: with_, mergeControls: false, gutter: true })])

onMounted(() => {
  view = new EditorView({
    parent: host.value!,
    state: EditorState.create({
      doc: text.value,
      extensions: [
        basicSetup,
        yaml(),
        syntaxHighlighting(classHighlighter),
        lintGutter(),
        autocompletion({ override: [complete] }),
        EditorView.contentAttributes.of({ 'aria-label': 'Feed file', tabindex: '0' }),
        EditorView.updateListener.of((u) => {
          if (u.docChanged) text.value = u.state.doc.toString()
        }),
        lit.of(EditorView.darkTheme.of(dark.value)),
        comparing.of(compared(props.compareWith)),
      ],
    }),
  })
  mark()
})
onBeforeUnmount(() => view?.destroy())

watch(text, (now) => {
  if (!view || view.state.doc.toString() === now) return
  view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: now }, annotations: isolateHistory.of('full') })
})
watch(dark, (now) => view?.dispatch({ effects: lit.reconfigure(EditorView.darkTheme.of(now)) }))
watch(
  () => props.compareWith,
  (now) => view?.dispatch({ effects: comparing.reconfigure(compared(now)) }),
)
watch(() => props.wrong, mark)

function mark() {
  if (!view) return
  const doc = view.state.doc
  const diagnostics: Diagnostic[] = props.wrong
    .filter((w) => w.line > 0 && w.line <= doc.lines)
    .map((w) => {
      const line = doc.line(w.line)
      const from = Math.min(line.from + Math.max(0, w.column - 1), line.to)
      return { from, to: line.to, severity: 'error', message: w.message }
    })
  view.dispatch(setDiagnostics(view.state, diagnostics))
}
</script>

<template>
  <div ref="host" class="editor" />
</template>

<style scoped>
.editor {
  border: 1px solid var(--line);
  border-radius: 4px;
  overflow: hidden;
}
.editor :deep(.cm-editor) {
  height: 100%;
  font-size: 12px;
  background: var(--paper);
}
.editor :deep(.cm-scroller) {
  font-family: ui-monospace, 'DejaVu Sans Mono', monospace;
  overflow: auto;
}
.editor :deep(.cm-gutters) {
  background: var(--ground);
  color: var(--quiet);
  border-color: var(--line);
}
.editor :deep(.tok-propertyName),
.editor :deep(.tok-keyword) {
  color: var(--felt);
}
.editor :deep(.tok-string) {
  color: var(--ink);
}
.editor :deep(.tok-comment),
.editor :deep(.tok-meta) {
  color: var(--quiet);
}
.editor :deep(.cm-activeLine),
.editor :deep(.cm-activeLineGutter) {
  background: var(--soft);
}
.editor :deep(.cm-focused) {
  outline: 2px solid var(--sun);
  outline-offset: -2px;
}
</style>
