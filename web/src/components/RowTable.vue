<script setup lang="ts">
import type { Rows } from '../api/client'
import GridTable from './GridTable.vue'

defineProps<{ rows: Rows }>()
const lineage = new Set(['from_file', 'from_line', 'from_arrival', 'loaded_run', 'loaded_at', 'row_digest'])
const at = (row: unknown[], rows: Rows) => ({ path: `/targets/${rows.table}/row`, query: { key: rows.key.map((k) => `${k}=${String(row[rows.columns?.indexOf(k) ?? 0])}`) } })
const shown = (v: unknown) => {
  const s = String(v)
  return s.length > 34 ? `${s.slice(0, 33)}…` : s
}
</script>

<template>
  <GridTable :name="rows.table" names>
    <thead>
      <tr>
        <th v-for="c in rows.columns" :key="c" :class="{ lineage: lineage.has(c) }">{{ c }}</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(r, i) in rows.rows" :key="i">
        <td v-for="(v, j) in r" :key="j" class="t" :class="{ nil: v === null, lineage: lineage.has(rows.columns?.[j] ?? '') }" :title="v === null ? 'no value' : String(v)">
          <router-link v-if="v !== null && rows.columns?.[j] === 'from_arrival'" :to="`/arrivals/${String(v)}`" title="The file that it came from">{{ shown(v) }}</router-link>
          <router-link v-else-if="rows.key.includes(rows.columns?.[j] ?? '')" :to="at(r ?? [], rows)" title="What happened to this row">{{ shown(v) }}</router-link>
          <template v-else>{{ v === null ? '–' : shown(v) }}</template>
        </td>
      </tr>
    </tbody>
  </GridTable>
</template>

<style scoped>
.lineage {
  color: var(--quiet) !important;
}
</style>
