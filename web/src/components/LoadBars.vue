<script setup lang="ts">
import { computed } from 'vue'
import type { Arrival } from '../api/client'
import { between, count, exact } from '../format'

// What the feed did lately: a bar a load, as high as its rows, with the part
// that changed the table filled.
const props = defineProps<{ arrivals: Arrival[] }>()
const height = 90
const loads = computed(() =>
  props.arrivals
    .filter((a) => a.state === 'loaded' || a.state === 'refused')
    .slice(0, 60)
    .reverse(),
)
const most = computed(() => Math.max(1, ...loads.value.map((a) => a.balance.read)))
const scale = (n: number) => (n / most.value) * (height - 4)
const says = (a: Arrival) =>
  `${a.path}\n${a.state}, ${count(a.balance.read)} rows, ${count(a.balance.inserted)} inserted, ${count(a.balance.updated)} updated, in ${between(a.opened_at, a.finished_at)}\n${exact(a.finished_at)}`
</script>

<template>
  <p v-if="!loads.length" class="nothing">No loads yet.</p>
  <div v-else class="row bars">
    <div class="axis quiet">{{ count(most) }}<br />rows</div>
    <svg :viewBox="`0 0 600 ${height}`" preserveAspectRatio="none" role="img" aria-label="Rows of the last loads">
      <line x1="0" x2="600" :y1="height - 0.5" :y2="height - 0.5" class="ground" />
      <router-link v-for="(a, i) in loads" :key="a.id" v-slot="{ navigate }" :to="`/arrivals/${a.id}`" custom>
        <g class="bar" @click="navigate()">
          <title>{{ says(a) }}</title>
          <rect :x="i * 10" y="0" width="10" :height="height" class="hit" />
          <rect :x="i * 10 + 1" :y="height - Math.max(2, scale(a.balance.read))" width="8" :height="Math.max(2, scale(a.balance.read))" :class="a.state" />
          <rect :x="i * 10 + 1" :y="height - scale(a.balance.inserted + a.balance.updated)" width="8" :height="scale(a.balance.inserted + a.balance.updated)" class="wrote" />
        </g>
      </router-link>
    </svg>
  </div>
</template>

<style scoped>
.bars {
  align-items: flex-start;
}
.axis {
  font-size: 11px;
  text-align: right;
  min-width: 44px;
}
svg {
  flex: 1;
  height: 90px;
}
.ground {
  stroke: var(--line);
}
.hit {
  fill: transparent;
}
.bar {
  cursor: pointer;
}
.bar:hover .hit {
  fill: var(--soft);
}
.loaded {
  fill: var(--felt-soft);
}
.refused {
  fill: var(--bad);
}
.wrote {
  fill: var(--felt);
}
</style>
