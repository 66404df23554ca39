<script setup lang="ts">
import { computed } from 'vue'

// A state is a word and a shape; its colour only helps.
const props = defineProps<{ state: string; bare?: boolean }>()

const shapes: Record<string, { path: string; tone: string; filled?: boolean }> = {
  noticed: { path: 'M7 3a4 4 0 1 0 .001 0Z', tone: 'quiet' },
  settling: { path: 'M7 3a4 4 0 1 0 .001 0ZM7 4.800V7l1.600 1', tone: 'quiet' },
  ready: { path: 'M4.500 3v8l6-4Z', tone: 'cool' },
  queued: { path: 'M4 4h6M4 7h6M4 10h6', tone: 'quiet' },
  loading: { path: 'M7 2.500v6M4.500 6.200 7 8.700l2.500-2.500M3 11.500h8', tone: 'cool' },
  running: { path: 'M4.500 3v8l6-4Z', tone: 'cool', filled: true },
  loaded: { path: 'M2.800 7.300 5.800 10.300 11.200 4', tone: 'good' },
  done: { path: 'M2.800 7.300 5.800 10.300 11.200 4', tone: 'good' },
  refused: { path: 'M3.500 3.500l7 7M10.500 3.500l-7 7', tone: 'bad' },
  failed: { path: 'M7 2.500 12 11.500H2Z', tone: 'bad', filled: true },
  held: { path: 'M4.500 3v8M9.500 3v8', tone: 'warm' },
  skipped: { path: 'M3 7h8', tone: 'quiet' },
  cancelled: { path: 'M3.500 3.500h7v7h-7Z', tone: 'warm' },
  gone: { path: 'M7 3a4 4 0 1 0 .001 0ZM4.200 9.800l5.600-5.600', tone: 'quiet' },
  recalled: { path: 'M10.500 7H4M6.500 4 3.500 7l3 3', tone: 'warm' },
  open: { path: 'M5.500 3H4v8h1.500M8.500 3H10v8H8.500', tone: 'quiet' },
  'on time': { path: 'M2.800 7.300 5.800 10.300 11.200 4', tone: 'good' },
  late: { path: 'M7 3a4 4 0 1 0 .001 0ZM7 4.800V7l1.600 1', tone: 'warm' },
  missing: { path: 'M5 2.500H3v9h2M9 2.500h2v9H9', tone: 'bad' },
  excused: { path: 'M3 8.500c2-3 3-3 4-1.500s2 1.500 4-1.500', tone: 'quiet' },
  surplus: { path: 'M7 3.500v7M3.500 7h7', tone: 'cool' },
  waiting: { path: 'M7 3a4 4 0 1 0 .001 0ZM7 4.800V7l1.600 1', tone: 'quiet' },
  working: { path: 'M4.500 3v8l6-4Z', tone: 'cool', filled: true },
  again: { path: 'M10.500 7H4M6.500 4 3.500 7l3 3', tone: 'warm' },
  paused: { path: 'M4.500 3v8M9.500 3v8', tone: 'warm' },
}
const shape = computed(() => shapes[props.state] ?? { path: 'M7 6.500a.5.5 0 1 0 .001 0Z', tone: 'quiet' })
</script>

<template>
  <span class="state" :class="shape.tone">
    <svg width="14" height="14" viewBox="0 0 14 14" aria-hidden="true"><path :d="shape.path" :class="{ filled: shape.filled }" /></svg>
    <template v-if="!bare">{{ state }}</template>
  </span>
</template>

<style scoped>
.state {
  display: inline-flex;
  align-items: center;
  gap: 4px;
  white-space: nowrap;
}
path {
  fill: none;
  stroke: currentColor;
  stroke-width: 1.8;
  stroke-linecap: round;
  stroke-linejoin: round;
}
.filled {
  fill: currentColor;
}
.good {
  color: var(--good);
}
.bad {
  color: var(--bad);
}
.warm {
  color: var(--warm);
}
.cool {
  color: var(--cool);
}
.quiet {
  color: var(--quiet);
}
</style>
