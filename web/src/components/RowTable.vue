<script setup lang="ts">
import { computed } from 'vue'
import type { Rows } from '../api/client'
import { csvOfRows } from '../csv'
import { useWindow } from '../window'
import GridTable from './GridTable.vue'

// Rows of a table with their lineage. Of many, only those that are seen are drawn; near the last of them, more are asked for.
const props = defineProps<{ rows: Rows }>()
const emit = defineEmits<{ end: [] }>()
const lineage = new Set(['from_file', 'from_line', 'from_arrival', 'loaded_run', 'loaded_at', 'row_digest'])
const at = (row: unknown[]) => ({ path: `/targets/${props.rows.table}/row`, query: { key: props.rows.key.map((k) => `${k}=${String(row[props.rows.columns?.indexOf(k) ?? 0])}`) } })
const shown = (v: unknown) => {
  const s = String(v)
  return s.length > 34 ? `${s.slice(0, 33)}…` : s
}
const many = computed(() => props.rows.rows.length > 50)
const { drawn, above, below, scrolled } = useWindow(
  computed(() => props.rows.rows),
  29,
)
function scroll(e: Event) {
  if (!many.value) return
  scrolled(e)
  const box = e.target as HTMLElement
  if (box.scrollHeight - box.scrollTop < 3 * box.clientHeight) emit('end')
}
const visible = computed(() => (many.value ? drawn.value : props.rows.rows))
</script>

<template>
  <GridTable :name="rows.table" names :high="many" :csv="(hidden) => csvOfRows(rows.columns ?? [], rows.rows, hidden)" @scrolled="scroll">
    <thead>
      <tr>
        <th v-for="c in rows.columns" :key="c" :class="{ lineage: lineage.has(c) }">{{ c }}</th>
      </tr>
    </thead>
    <tbody>
      <tr v-if="many && above" aria-hidden="true" :style="{ height: `${above}px` }" />
      <tr v-for="(r, i) in visible" :key="i">
        <td v-for="(v, j) in r" :key="j" class="t" :class="{ nil: v === null, lineage: lineage.has(rows.columns?.[j] ?? '') }" :title="v === null ? 'no value' : String(v)">
          <router-link v-if="v !== null && rows.columns?.[j] === 'from_arrival'" :to="`/arrivals/${String(v)}`" title="The file that it came from">{{ shown(v) }}</router-link>
          <router-link v-else-if="rows.key.includes(rows.columns?.[j] ?? '')" :to="at(r ?? [])" title="What happened to this row">{{ shown(v) }}</router-link>
          <template v-else>{{ v === null ? '–' : shown(v) }}</template>
        </td>
      </tr>
      <tr v-if="many && below" aria-hidden="true" :style="{ height: `${below}px` }" />
    </tbody>
  </GridTable>
</template>

<style scoped>
.lineage {
  color: var(--quiet) !important;
}
td {
  height: 20px;
  line-height: 20px;
}
</style>
