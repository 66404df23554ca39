<script setup lang="ts">
import { NButton, NCheckbox, NInput, NPopover } from 'naive-ui'
import { computed, ref } from 'vue'
import type { Reject, Sample } from '../api/client'
import type { ColumnChange } from '../feedfile'
import { count, harmless } from '../format'
import { useWindow } from '../window'

// The beginning of a file as a feed reads it: a row a line, in the order of the file. A row that
// would be left out stands as it is in the file, with the cell at fault marked. What is asked of a
// column is changed at its head.
const props = defineProps<{ sample: Sample; types: string[]; fixed?: boolean }>()
const emit = defineEmits<{ change: [column: string, change: ColumnChange] }>()

type Line = { line: number; row?: Sample['rows'][number]; reject?: Sample['rejects'][number] }
const lines = computed<Line[]>(() =>
  [...props.sample.rows.map((row): Line => ({ line: row.line, row })), ...props.sample.rejects.map((reject): Line => ({ line: reject.line, reject }))].sort((a, b) => a.line - b.line),
)

// Only what is seen is drawn: each line is as high as the next.
const { drawn, above, below, scrolled } = useWindow(lines, 25)

const box = ref<HTMLElement>()
defineExpose({ isAtTop: () => (box.value?.scrollTop ?? 0) < 100 })

function marked(r: Pick<Reject, 'original' | 'mark_from' | 'mark_to'>): [string, string, string] {
  const all = [...r.original]
  if (!r.mark_to) return [harmless(r.original), '', '']
  return [all.slice(0, r.mark_from), all.slice(r.mark_from, r.mark_to), all.slice(r.mark_to)].map((p) => harmless(p.join(''))) as [string, string, string]
}

const named = ref('')
const formatted = ref('')
const shown = ref('') // the column that is being changed
function opened(show: boolean, c: Sample['columns'][number]) {
  shown.value = show ? c.name : ''
  if (!show) return
  named.value = c.name
  formatted.value = c.format
}
function keep(c: Sample['columns'][number]) {
  const change: ColumnChange = {}
  if (named.value.trim() && named.value !== c.name) change.name = named.value.trim()
  if (formatted.value !== c.format) change.format = formatted.value
  if (Object.keys(change).length) emit('change', c.name, change)
  shown.value = ''
}
</script>

<template>
  <div ref="box" class="sample" tabindex="0" role="region" aria-label="Sample" @scroll.passive="scrolled">
    <table class="grid names">
      <thead>
        <tr>
          <th class="n" scope="col">Line</th>
          <th v-for="c in sample.columns" :key="c.name" scope="col">
            <span v-if="c.derived || fixed">{{ c.name }} <small>{{ c.derived ? 'derived' : c.type }}</small></span>
            <n-popover v-else trigger="click" placement="bottom-start" :show="shown === c.name" @update:show="(show: boolean) => opened(show, c)">
              <template #trigger>
                <button type="button" class="head" :title="`Change ${c.name}`">
                  {{ c.name }}<b v-if="c.key" title="of the key"> ◆<span class="unseen"> key</span></b>
                  <small>{{ c.type }}{{ c.format && c.format !== 'default' ? ` ${c.format}` : '' }}</small>
                </button>
              </template>
              <form class="column" @submit.prevent="keep(c)">
                <label>Name <n-input v-model:value="named" size="small" :input-props="{ 'aria-label': 'Name' }" /></label>
                <label>Type
                  <select name="type" :value="c.type" @change="emit('change', c.name, { type: ($event.target as HTMLSelectElement).value })">
                    <option v-for="t in types" :key="t">{{ t }}</option>
                  </select>
                </label>
                <label>Format <n-input v-model:value="formatted" size="small" placeholder="default" :input-props="{ 'aria-label': 'Format' }" /></label>
                <n-checkbox :checked="c.key" @update:checked="(key: boolean) => emit('change', c.name, { key })">of the key</n-checkbox>
                <p v-if="c.source" class="quiet">In the file: {{ c.source }}</p>
                <n-button size="small" attr-type="submit">Apply</n-button>
              </form>
            </n-popover>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-if="above" aria-hidden="true" :style="{ height: `${above}px` }" />
        <tr v-for="l in drawn" :key="l.line" :class="{ bad: l.reject }">
          <td class="n">{{ l.line }}</td>
          <template v-if="l.row">
            <td v-for="(v, i) in l.row.values" :key="i" class="t"><span :class="{ nil: v === null }">{{ v === null ? '–' : harmless(v) }}</span></td>
          </template>
          <td v-else-if="l.reject" :colspan="sample.columns.length" class="t" :title="`${l.reject.column} ${l.reject.reason}`">
            <span class="mono">{{ marked(l.reject)[0] }}<mark>{{ marked(l.reject)[1] }}</mark>{{ marked(l.reject)[2] }}</span>
            <span class="why"> {{ l.reject.column ? `${l.reject.column}: ` : '' }}{{ l.reject.reason }}</span>
          </td>
        </tr>
        <tr v-if="below" aria-hidden="true" :style="{ height: `${below}px` }" />
      </tbody>
    </table>
  </div>
  <p class="quiet" role="status">
    {{ count(sample.read) }} rows read<template v-if="!sample.whole"> of the beginning of the file</template>: {{ count(sample.read - sample.rejected - sample.left_out) }} good, {{ count(sample.rejected) }} rejected<template v-if="sample.left_out">, {{ count(sample.left_out) }} left out</template>.
  </p>
</template>

<style scoped>
.sample {
  overflow: auto;
  max-height: 460px;
}
thead th {
  position: sticky;
  top: 0;
  background: var(--paper);
  z-index: 1;
}
td {
  height: 16px;
  line-height: 16px;
  max-width: 340px;
  overflow: hidden;
  text-overflow: ellipsis;
}
.head {
  border: 1px solid transparent;
  border-radius: 3px;
  background: none;
  color: inherit;
  font: inherit;
  text-align: left;
  cursor: pointer;
  padding: 1px 4px;
  margin-left: -5px;
}
.head:hover {
  border-color: var(--felt);
}
small {
  display: block;
  font-weight: 400;
}
.bad {
  background: var(--soft);
}
.bad .why {
  margin-left: 12px;
  color: var(--bad);
}
mark {
  background: var(--mark);
  color: inherit;
  border-bottom: 2px solid var(--bad);
}
.column {
  display: grid;
  gap: 8px;
  width: 240px;
}
.column select {
  display: block;
  width: 100%;
  height: 28px;
  border: 1px solid var(--line);
  border-radius: 3px;
  background: var(--paper);
  color: var(--ink);
  font: inherit;
}
.column p {
  margin: 0;
}
</style>
