<script setup lang="ts">
import { useMessage } from 'naive-ui'
import { api, got, type Progress } from '../api/client'
import { harmless } from '../format'
import { workName } from '../working'
import StateMark from './StateMark.vue'
import WorkProgress from './WorkProgress.vue'

// Work that goes on, as a row: a load, or what else takes its time. The work of a run is ended here; what a page asked for, there.
defineProps<{ load: Progress }>()
const message = useMessage()
async function cancel(run: number) {
  try {
    await got(api.POST('/api/v1/runs/{id}/cancel', { params: { path: { id: run } } }))
    message.success(`Run ${run} is told to end; what it has loaded stays.`)
  } catch (e) {
    message.error((e as Error).message)
  }
}
</script>

<template>
  <tr>
    <td><StateMark v-if="load.work === 'load'" state="loading" /><span v-else>{{ workName(load) }}</span></td>
    <td>
      <router-link :to="`/feeds/${load.feed}`">{{ load.feed }}</router-link>
    </td>
    <td class="path">
      <router-link v-if="load.arrival" :to="`/arrivals/${load.arrival}`">{{ harmless(load.path) }}</router-link>
      <template v-else>{{ harmless(load.path) }}</template>
      <span v-if="load.files > 1" class="quiet">{{ !load.path ? `${load.files} files` : load.work === 'load' ? ` and ${load.files - 1} more` : `, of ${load.files} files` }}</span>
      <WorkProgress :work="load" />
    </td>
    <td class="n"><button v-if="load.run" type="button" class="button" :aria-label="`Cancel the ${load.work} of ${harmless(load.path)}`" @click="cancel(load.run)">Cancel</button></td>
  </tr>
</template>
