<script setup lang="ts">
import { api, got, type Slot } from '../api/client'
import { harmless, time } from '../format'
import AskReason from './AskReason.vue'
import DueTime from './DueTime.vue'
import GridTable from './GridTable.vue'
import StateMark from './StateMark.vue'

// What was expected and did not come as it should, with what came close.
defineProps<{ slots: Slot[]; plain?: boolean; chosen?: number }>()
const late = (s: Slot) => s.state === 'late' && !s.complete_at
const open = (s: Slot) => ['missing', 'refused', 'open'].includes(s.state) || late(s)
const accept = (s: Slot, path: string) => (because: string) => got(api.POST('/api/v1/slots/{id}/accept', { params: { path: { id: s.id } }, body: { path, because } }))
const excuse = (s: Slot) => (because: string) => got(api.POST('/api/v1/slots/{id}/excuse', { params: { path: { id: s.id } }, body: { because } }))
</script>

<template>
  <GridTable name="slots">
    <thead>
      <tr><th>State</th><th v-if="!plain">Feed</th><th>Due</th><th>What came of it</th><th><span class="unseen">To do</span></th></tr>
    </thead>
    <tbody>
      <tr v-for="s in slots" :key="s.id" :class="{ chosen: s.id === chosen }" :aria-current="s.id === chosen || undefined">
        <td>
          <StateMark :state="s.state" />
          <div v-if="late(s)" class="quiet">not here yet</div>
        </td>
        <td v-if="!plain" class="t">
          <router-link :to="`/due?feed=${s.feed}`">{{ s.feed }}</router-link>
        </td>
        <td class="t"><DueTime :slot-view="s" /></td>
        <td class="path">
          <template v-if="s.complete_at">came {{ time(s.complete_at) }}</template>
          <template v-else-if="s.state === 'refused'">what came was refused: <router-link :to="`/ledger?feed=${s.feed}&state=refused`">see why</router-link></template>
          <template v-else-if="s.files">
            expected <span class="mono">{{ s.expected }}</span><template v-if="s.files > 1">; {{ s.came }} of {{ s.files }} came</template>
          </template>
          <template v-if="s.surplus">{{ s.surplus }} {{ s.surplus === 1 ? 'file' : 'files' }} beyond what was expected</template>
          <div v-if="open(s) && s.say && s.state !== 'refused'" class="say">{{ s.say }}</div>
          <div v-for="n in open(s) ? s.near : []" :key="n.path" class="near row">
            <span>came close: <span class="mono">{{ harmless(n.path) }}</span> <span class="quiet">({{ harmless(n.why) }})</span></span>
            <AskReason label="Accept" :title="`Take ${n.path} for this slot`" about="It is loaded as if its name were right." :act="accept(s, n.path)" primary />
          </div>
        </td>
        <td class="n"><AskReason v-if="open(s)" label="Excuse" title="This slot need not be filled" :act="excuse(s)" /></td>
      </tr>
    </tbody>
  </GridTable>
</template>

<style scoped>
.chosen {
  background: var(--soft);
  box-shadow: inset 3px 0 var(--sun);
}
.say {
  font-weight: 600;
}
.near {
  margin-top: 3px;
}
</style>
