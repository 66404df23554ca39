<script setup lang="ts">
import { computed } from 'vue'

// A row before and after, column by column; only what differs, where there is
// both.
const props = defineProps<{ before: unknown; after: unknown; key_: string[]; all?: boolean }>()
type Row = Record<string, unknown> | null
const minor = new Set(['row_digest', 'loaded_at', 'loaded_run', 'from_file', 'from_line'])
const text = (v: unknown) => (v === null || v === undefined ? '–' : typeof v === 'object' ? JSON.stringify(v) : String(v))
const columns = computed(() => {
  const [b, a] = [props.before as Row, props.after as Row]
  return Object.keys(a ?? b ?? {})
    .filter((c) => !props.key_.includes(c) && !minor.has(c))
    .map((name) => ({ name, was: b ? text(b[name]) : undefined, is: a ? text(a[name]) : undefined }))
    .filter((c) => props.all || c.was !== c.is)
})
</script>

<template>
  <span v-for="c in columns" :key="c.name" class="change">
    <span class="quiet">{{ c.name }}</span>
    <template v-if="c.was !== undefined && c.was !== c.is">&nbsp;<span class="was">{{ c.was }}</span></template>
    <template v-if="c.is !== undefined">&nbsp;<span :class="{ is: c.was !== undefined && c.was !== c.is }">{{ c.is }}</span></template>
    <span class="unseen">; </span>
  </span>
</template>

<style scoped>
.change {
  display: inline-block;
  margin-right: 14px;
}
.was {
  color: var(--quiet);
  text-decoration: line-through;
}
.is {
  background: var(--mark);
  border-radius: 2px;
  padding: 0 2px;
}
</style>
