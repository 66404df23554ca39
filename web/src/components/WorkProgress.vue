<script setup lang="ts">
import { computed } from 'vue'
import type { Progress } from '../api/client'
import { harmless } from '../format'
import { howFar, shareDone } from '../working'

// How far work has come: a line and a bar.
const props = defineProps<{ work: Progress }>()
const said = computed(() => howFar(props.work, Date.now()))
</script>

<template>
  <div class="quiet">{{ said }}</div>
  <progress :value="shareDone(work)" max="1" :aria-label="`Done of ${harmless(work.path) || work.feed}`" />
</template>

<style scoped>
progress {
  width: 100%;
  max-width: 420px;
  height: 5px;
  accent-color: var(--felt);
}
</style>
