<script setup lang="ts">
import type { Arrival } from '../api/client'
import { between, bytes, count, exact, harmless, time } from '../format'
import GridTable from './GridTable.vue'
import SortHead from './SortHead.vue'
import StateMark from './StateMark.vue'

withDefaults(defineProps<{ arrivals: Arrival[]; feed?: boolean; name: string; ascending?: boolean }>(), { ascending: undefined }) // undefined: the order is not to be turned
defineEmits<{ turn: [] }>()
const numbers = ['read', 'inserted', 'updated', 'unchanged', 'outdated', 'duplicate', 'rejected', 'withheld'] as const
</script>

<template>
  <GridTable :name="name">
    <thead>
      <tr>
        <th v-if="ascending === undefined">Noticed</th>
        <SortHead v-else :ascending="ascending" @turn="$emit('turn')">Noticed</SortHead>
        <th>State</th>
        <th v-if="feed">Feed</th>
        <th>Path</th>
        <th class="n wide">Size</th>
        <th class="n wide">Took</th>
        <th class="n wide">Version</th>
        <th class="n wide">Run</th>
        <th v-for="n in numbers" :key="n" class="n">{{ n }}</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="a in arrivals" :key="a.id">
        <td class="t" :title="exact(a.noticed_at)">{{ time(a.noticed_at) }}</td>
        <td><StateMark :state="a.state" /></td>
        <td v-if="feed" class="t">
          <router-link :to="`/feeds/${a.feed}`">{{ a.feed }}</router-link>
        </td>
        <td class="path">
          <router-link :to="`/arrivals/${a.id}`">{{ harmless(a.path) }}</router-link>
          <div v-if="a.reason" class="quiet">{{ harmless(a.reason) }}</div>
        </td>
        <td class="n wide">{{ bytes(a.size) }}</td>
        <td class="n wide">{{ between(a.opened_at, a.finished_at) }}</td>
        <td class="n wide">{{ a.version || '–' }}</td>
        <td class="n wide">
          <router-link v-if="a.run" :to="`/ledger?run=${a.run}`">{{ a.run }}</router-link>
        </td>
        <td v-for="n in numbers" :key="n" class="n" :class="{ nil: !a.balance[n] }">{{ count(a.balance[n]) }}</td>
      </tr>
    </tbody>
  </GridTable>
</template>
