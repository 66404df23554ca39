<script setup lang="ts">
// Whether a check holds: a word and a shape.
defineProps<{ held: boolean; otherwise: string }>()
</script>

<template>
  <span class="row mark" :class="held ? 'held' : otherwise">
    <svg width="11" height="11" aria-hidden="true">
      <path v-if="held" d="M1.5 6 L4.5 9 L9.5 2.5" />
      <path v-else d="M2 2 L9 9 M9 2 L2 9" />
    </svg>
    {{ held ? 'holds' : otherwise === 'warn' ? 'warns' : 'broken' }}
  </span>
</template>

<style scoped>
.mark {
  display: inline-flex;
  gap: 5px;
  white-space: nowrap;
}
path {
  fill: none;
  stroke: currentColor;
  stroke-width: 1.8;
}
.held {
  color: var(--good);
}
.warn {
  color: var(--warm);
}
.reject,
.refuse {
  color: var(--bad);
}
</style>
