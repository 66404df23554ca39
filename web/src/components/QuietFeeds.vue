<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { api, got, type Day } from '../api/client'
import { count } from '../format'

// Feeds without anything to see, folded by supplier or folder; one fold is open at
// a time.
const props = defineProps<{ quiet: Day['quiet']; hours: number }>()
const few = 12
const all = ref(false)
const shown = computed(() => (all.value ? props.quiet : props.quiet.slice(0, few)))
const total = computed(() => props.quiet.reduce((n, q) => n + q.feeds, 0))
const open = ref('')
const { data } = useQuery({
  queryKey: ['day', 'quiet', () => props.hours, open],
  queryFn: () => got(api.GET('/api/v1/day', { params: { query: { hours: props.hours, quiet: open.value, limit: 200 } } })),
  enabled: computed(() => !!open.value),
})
</script>

<template>
  <div class="quiets">
    <span class="quiet">Nothing to see of {{ count(total) }} {{ total === 1 ? 'feed' : 'feeds' }}:</span>
    <template v-for="q in shown" :key="q.of">
      <router-link v-if="q.only" :to="`/feeds/${q.only}`">{{ q.only }}</router-link>
      <button v-else type="button" :aria-expanded="open === q.of" @click="open = open === q.of ? '' : q.of">{{ q.of }} ({{ count(q.feeds) }})</button>
    </template>
    <button v-if="quiet.length > few" type="button" @click="all = !all">{{ all ? 'fewer' : `${quiet.length - few} more` }}</button>
    <div v-if="open && data" class="names">
      <router-link v-for="f in data.feeds" :key="f.feed" :to="`/feeds/${f.feed}`">{{ f.feed }}</router-link>
      <span v-if="data.next" class="quiet">and more</span>
    </div>
  </div>
</template>

<style scoped>
.quiets {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 12px;
  margin-top: 8px;
}
button {
  padding: 0;
  border: 0;
  background: none;
  color: var(--felt);
  font: inherit;
  cursor: pointer;
}
.names {
  flex-basis: 100%;
  display: flex;
  flex-wrap: wrap;
  gap: 2px 12px;
}
</style>
