<script setup lang="ts">
import type { Rows } from '../api/client'

defineProps<{ rows: Rows }>()
const lineage = new Set(['from_file', 'from_line', 'from_arrival', 'loaded_run', 'loaded_at', 'row_digest'])
const shown = (v: unknown) => {
  const s = String(v)
  return s.length > 34 ? `${s.slice(0, 33)}…` : s
}
</script>

<template>
  <div class="scroll">
    <table class="grid">
      <thead>
        <tr>
          <th v-for="c in rows.columns" :key="c" :class="{ lineage: lineage.has(c) }">{{ c }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(r, i) in rows.rows" :key="i">
          <td v-for="(v, j) in r" :key="j" class="t" :class="{ nil: v === null, lineage: lineage.has(rows.columns?.[j] ?? '') }" :title="v === null ? 'no value' : String(v)">
            {{ v === null ? '–' : shown(v) }}
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.lineage {
  color: var(--quiet) !important;
}
</style>
