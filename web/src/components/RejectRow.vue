<script setup lang="ts">
import { computed } from 'vue'
import type { Reject } from '../api/client'
import { harmless } from '../format'

// A rejected row as it stands in the file, with the cell at fault marked.
const props = defineProps<{ reject: Reject }>()

/** The row in three parts, the cell at fault in the middle. */
const parts = computed<[string, string, string]>(() => {
  const { mark_from, mark_to, original } = props.reject
  const characters = Array.from(original) // as they were counted, not as UTF-16
  const part = (from: number, to?: number) => harmless(characters.slice(from, to).join(''))
  return [part(0, mark_from), part(mark_from, mark_to), mark_to > 0 ? part(mark_to) : harmless(original)]
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
