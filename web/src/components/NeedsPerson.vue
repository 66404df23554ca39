<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Status } from '../api/client'
import { count, exact, harmless, time } from '../format'
import SlotTable from './SlotTable.vue'
import StateMark from './StateMark.vue'

// What needs a person, the newest first: the first few of each kind, and the rest
// when asked for.
const props = defineProps<{ status: Status }>()
const few = 5
const all = ref(false)
const some = <T,>(list: T[]) => (all.value ? list : list.slice(0, few))
// A slot whose file was refused is told by its arrival.
const wrong = computed(() => props.status.wrong.filter((s) => s.state !== 'refused'))
const folded = computed(() => [props.status.stopped, props.status.extracts, props.status.needs, wrong.value].reduce((n, list) => n + Math.max(0, list.length - few), 0))
const nothing = computed(() => !props.status.stopped.length && !props.status.extracts.length && !props.status.needs.length && !wrong.value.length)
</script>

<template>
  <div class="row spread">
    <h2>Needs a person</h2>
    <router-link v-if="!nothing" class="quiet" to="/feeds?wrong=true">{{ count(status.totals.wrong) }} {{ status.totals.wrong === 1 ? 'feed' : 'feeds' }}</router-link>
  </div>
  <p v-if="nothing" class="nothing">Nothing does. All that came in the last days is loaded, or on its way.</p>
  <SlotTable v-if="wrong.length" :slots="some(wrong)" />
  <table v-if="status.needs.length || status.stopped.length || status.extracts.length" class="grid">
    <tbody>
      <tr v-for="f in some(status.stopped)" :key="f.feed">
        <td class="t"><StateMark state="failed" bare /> not working</td>
        <td>
          <router-link :to="`/feeds/${f.feed}`">{{ f.feed }}</router-link>
        </td>
        <td colspan="2">{{ f.problem }}</td>
      </tr>
      <tr v-for="x in some(status.extracts)" :key="x.extract">
        <td class="t"><StateMark state="failed" /></td>
        <td>
          <router-link :to="`/extracts/${x.extract}`">{{ x.extract }}</router-link>
        </td>
        <td class="path">an extract: {{ harmless(x.problem) }}</td>
        <td class="t quiet" :title="exact(x.since)">{{ time(x.since) }}</td>
      </tr>
      <tr v-for="a in some(status.needs)" :key="a.id">
        <td><StateMark :state="a.state" /></td>
        <td>
          <router-link :to="`/feeds/${a.feed}`">{{ a.feed }}</router-link>
        </td>
        <td class="path">
          <router-link :to="`/arrivals/${a.id}`">{{ harmless(a.path) }}</router-link>
          <div class="quiet">{{ harmless(a.reason) }}</div>
        </td>
        <td class="t quiet" :title="exact(a.finished_at)">{{ time(a.finished_at) }}</td>
      </tr>
    </tbody>
  </table>
  <button v-if="folded || all" type="button" class="fold" @click="all = !all">{{ all ? 'Show fewer' : `Show ${folded} more` }}</button>
</template>

<style scoped>
.fold {
  margin-top: 6px;
  padding: 0;
  border: 0;
  background: none;
  color: var(--felt);
  font: inherit;
  cursor: pointer;
}
</style>
