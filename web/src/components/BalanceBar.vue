<script setup lang="ts">
import { computed } from 'vue'
import type { Balance } from '../api/client'
import { count, places } from '../format'

// Where every row went, as one bar that adds up to the rows read.
const props = defineProps<{ balance: Balance }>()
const parts = computed(() => places.map((p) => ({ ...p, n: props.balance[p.key] })).filter((p) => p.n > 0))
const sum = computed(() => parts.value.reduce((s, p) => s + p.n, 0))
</script>

<template>
  <div>
    <div v-if="sum" class="bar" role="img" :aria-label="`${sum} rows: ${parts.map((p) => `${p.n} ${p.name}`).join(', ')}`">
      <div v-for="p in parts" :key="p.key" class="part" :class="p.key" :style="{ flexGrow: p.n }" :title="`${count(p.n)} ${p.name}: ${p.about}`" />
    </div>
    <p class="sum">
      <strong>{{ count(balance.read) }}</strong> read
      <template v-for="(p, i) in parts" :key="p.key">
        {{ i === 0 ? '= ' : ' + ' }}<span class="key" :class="p.key" aria-hidden="true" /><strong>{{ count(p.n) }}</strong> <span :title="p.about">{{ p.name }}</span>
      </template>
      <span v-if="balance.removed" class="quiet">; {{ count(balance.removed) }} removed from the table</span>
      <span v-if="sum !== balance.read" class="off"> – the balance does not add up</span>
    </p>
  </div>
</template>

<style scoped>
.bar {
  display: flex;
  height: 18px;
  border-radius: 3px;
  overflow: hidden;
  gap: 1px;
}
.part {
  min-width: 4px;
  flex-basis: 0;
}
.sum {
  margin: 6px 0 0;
  font-variant-numeric: tabular-nums;
}
.key {
  display: inline-block;
  width: 9px;
  height: 9px;
  margin-right: 4px;
  border-radius: 2px;
}
.off {
  color: var(--bad);
}
.inserted {
  background: var(--felt);
}
.updated {
  background: var(--sun);
}
.unchanged {
  background: var(--felt-soft);
}
.outdated,
.kept,
.left_out {
  background: var(--faint);
}
.duplicate,
.deleted {
  background: repeating-linear-gradient(45deg, var(--faint) 0 3px, transparent 3px 6px);
}
.rejected {
  background: var(--bad);
}
.withheld {
  background: repeating-linear-gradient(45deg, var(--bad) 0 3px, transparent 3px 6px);
}
</style>
