<script setup lang="ts">
import { NButton, useMessage } from 'naive-ui'
import { computed } from 'vue'
import { api, got, type Progress } from '../api/client'
import { bytes, count, duration, harmless } from '../format'
import StateMark from './StateMark.vue'

// A load that goes on: how far it has read, how fast, and how long the rest takes at that pace.
const props = defineProps<{ load: Progress }>()
const message = useMessage()
const share = computed(() => (props.load.size ? Math.min(1, props.load.bytes / props.load.size) : 1))
const reads = computed(() => props.load.size > 0 && share.value < 1)
const took = computed(() => Math.max(1, Date.now() - +new Date(props.load.began_at)))
const pace = computed(() => (props.load.bytes / took.value) * 1000)
const left = computed(() => (reads.value && took.value > 1000 && pace.value > 0 ? duration(((props.load.size - props.load.bytes) / pace.value) * 1000) : ''))
const words: Record<Progress['step'], string> = { claimed: 'about to begin', opened: 'reading', staged: 'read, about to be written', locked: 'writing', merged: 'written, about to be committed', marked: 'committing', committed: 'committed' }
async function cancel() {
  try {
    await got(api.POST('/api/v1/runs/{id}/cancel', { params: { path: { id: props.load.run } } }))
    message.success(`Run ${props.load.run} is told to end; what it has loaded stays.`)
  } catch (e) {
    message.error((e as Error).message)
  }
}
</script>

<template>
  <tr>
    <td><StateMark state="loading" /></td>
    <td>
      <router-link :to="`/feeds/${load.feed}`">{{ load.feed }}</router-link>
    </td>
    <td class="path">
      <router-link :to="`/arrivals/${load.arrival}`">{{ harmless(load.path) }}</router-link>
      <span v-if="load.files > 1" class="quiet"> and {{ load.files - 1 }} more</span>
      <div class="quiet">
        {{ words[load.step] }}<template v-if="load.size">, {{ bytes(Math.min(load.bytes, load.size)) }} of {{ bytes(load.size) }}</template>, {{ count(load.rows) }} rows<template v-if="reads && pace > 0">, {{ bytes(Math.round(pace)) }} a second</template><template v-if="left">, {{ left }} left to read</template><template v-if="load.waits">; waits for {{ load.waits }}</template>
      </div>
      <progress :value="share" max="1" :aria-label="`Read of ${harmless(load.path)}`" />
    </td>
    <td class="n"><n-button v-if="load.run" size="small" :aria-label="`Cancel the load of ${harmless(load.path)}`" @click="cancel">Cancel</n-button></td>
  </tr>
</template>

<style scoped>
progress {
  width: 100%;
  max-width: 420px;
  height: 5px;
  accent-color: var(--felt);
}
</style>
