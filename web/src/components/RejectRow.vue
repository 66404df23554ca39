<script setup lang="ts">
import { computed } from 'vue'
import type { Reject } from '../api/client'

// A rejected row as it stands in the file, with the cell at fault marked.
const props = defineProps<{ reject: Reject }>()

/** The row in three parts, the cell at fault in the middle. */
const parts = computed<[string, string, string]>(() => {
  const { value, original } = props.reject
  const at = value && !value.endsWith('...') ? original.indexOf(value) : -1
  if (at < 0) return [original, '', '']
  return [original.slice(0, at), value, original.slice(at + value.length)]
})
</script>

<template>
  <span>{{ parts[0] }}<mark v-if="parts[1]">{{ parts[1] }}</mark>{{ parts[2] }}</span>
</template>

<style scoped>
mark {
  background: var(--mark);
  color: inherit;
  padding: 0 2px;
  border-radius: 2px;
  box-shadow: inset 0 -2px 0 var(--bad);
}
</style>
