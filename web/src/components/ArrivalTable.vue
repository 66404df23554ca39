<script setup lang="ts">
import type { Arrival } from '../api/client'
import { count, exact, harmless, time } from '../format'
import StateMark from './StateMark.vue'

defineProps<{ arrivals: Arrival[]; feed?: boolean }>()
const numbers = ['read', 'inserted', 'updated', 'unchanged', 'outdated', 'duplicate', 'rejected', 'withheld'] as const
</script>

<template>
  <div class="scroll">
    <table class="grid">
      <thead>
        <tr>
          <th>Noticed</th>
          <th>State</th>
          <th v-if="feed">Feed</th>
          <th>Path</th>
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
          <td v-for="n in numbers" :key="n" class="n" :class="{ nil: !a.balance[n] }">{{ count(a.balance[n]) }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
