<script setup lang="ts">
import { computed } from 'vue'
import type { Slot } from '../api/client'
import { clockIn, exact, minute, zoneHere } from '../format'

// When a slot is due, and where its calendar is of another zone than the reader, the clock there: names carry it.
const props = defineProps<{ slotView: Slot; plain?: boolean }>()
const there = computed(() => clockIn(props.slotView.due_at, props.slotView.zone))
const per = computed(() => (props.plain ? '' : Object.values(props.slotView.per ?? {}).join(' ')))
const place = computed(() => props.slotView.zone.replace(/^.*\//, '').replaceAll('_', ' '))
</script>

<template>
  <span :title="`${exact(slotView.due_at)}${slotView.zone ? `; its calendar is of ${slotView.zone}, you are in ${zoneHere}` : ''}`"
    >{{ minute(slotView.due_at) }}<template v-if="there">, {{ there }} {{ slotView.zone.includes('/') ? `in ${place}` : place }}</template
    ><template v-if="per">, {{ per }}</template></span
  >
</template>
