<script setup lang="ts">
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { choiceOf, hide, keepChoice } from '../columns'
import { csvOf } from '../csv'

// The table of the console. Its columns are chosen, and what is seen of it is saved as CSV; where there is little room its
// rows are cards. A table without a name is a list of few lines, and has neither. A high one scrolls by itself, below its head;
// csv writes what it holds, where not all of that is drawn.
const props = defineProps<{ name?: string; names?: boolean; high?: boolean; csv?: (hidden: string[]) => string }>()
defineEmits<{ scrolled: [e: Event] }>()
const table = ref<HTMLTableElement>()
const heads = ref<string[]>([])
const hidden = ref<string[]>(props.name ? choiceOf(props.name) : [])
const sheet = new CSSStyleSheet()
const show = () => props.name && hide(sheet, props.name, hidden.value)

onMounted(() => {
  document.adoptedStyleSheets = [...document.adoptedStyleSheets, sheet]
  show()
})
watch(
  () => props.name,
  (name) => {
    hidden.value = name ? choiceOf(name) : []
    show()
  },
)
onBeforeUnmount(() => (document.adoptedStyleSheets = document.adoptedStyleSheets.filter((s) => s !== sheet)))

const headed = ref(false) // a list without heads has no columns to choose from
onMounted(() => (headed.value = !!table.value?.tHead))
const look = () => (heads.value = [...(table.value?.tHead?.rows[0]?.cells ?? [])].map((h) => h.dataset.head ?? '').filter(Boolean))
function choose(head: string) {
  if (!props.name) return
  hidden.value = hidden.value.includes(head) ? hidden.value.filter((h) => h !== head) : [...hidden.value, head]
  keepChoice(props.name, hidden.value)
  show()
}
function save() {
  if (!table.value) return
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([props.csv?.(hidden.value) ?? csvOf(table.value)], { type: 'text/csv' }))
  link.download = `${props.name}.csv`
  link.click()
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000)
}
function fold(e: KeyboardEvent) {
  const box = e.currentTarget as HTMLDetailsElement
  box.open = false
  box.querySelector('summary')?.focus()
}
</script>

<template>
  <div v-if="name || $slots.head" class="row spread wrap over">
    <slot name="head"><span></span></slot>
    <div v-if="name" class="row tools">
      <details v-if="headed" @toggle="look" @keydown.esc.stop="fold">
        <summary :title="`Which columns of ${name} are shown`">Columns<template v-if="hidden.length">, {{ hidden.length }} hidden</template></summary>
        <div class="panel choice">
          <label v-for="h in heads" :key="h"><input type="checkbox" :checked="!hidden.includes(h)" @change="choose(h)" /> {{ h }}</label>
        </div>
      </details>
      <button type="button" class="tool" :title="`What is seen of it, as ${name}.csv`" @click="save">Save as CSV</button>
    </div>
  </div>
  <div class="scroll" :class="{ high }" :tabindex="high ? 0 : undefined" :role="high ? 'region' : undefined" :aria-label="high ? `Rows of ${name}` : undefined" @scroll.passive="$emit('scrolled', $event)">
    <table ref="table" class="grid" :class="{ names }" :data-table="name">
      <slot></slot>
    </table>
  </div>
</template>

<style scoped>
.over {
  margin-bottom: 2px;
}
.wrap {
  flex-wrap: wrap;
}
.tools {
  margin-left: auto;
  gap: 14px;
}
details {
  position: relative;
}
summary,
.tool {
  color: var(--quiet);
  cursor: pointer;
  font: inherit;
  font-size: 12px;
  border: none;
  background: none;
  padding: 3px 0;
  list-style: none;
}
summary:hover,
.tool:hover {
  color: var(--ink);
  text-decoration: underline;
}
.high {
  overflow: auto;
  max-height: 72vh;
}
.high :deep(thead th) {
  position: sticky;
  top: 0;
  background: var(--paper);
  z-index: 1;
}
.choice {
  position: absolute;
  z-index: 5;
  right: 0;
  display: flex;
  flex-direction: column;
  gap: 3px;
  max-height: 320px;
  overflow-y: auto;
  white-space: nowrap;
  box-shadow: 0 4px 14px rgb(0 0 0 / 18%);
}
</style>
