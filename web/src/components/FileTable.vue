<script setup lang="ts">
import type { components } from '../api/schema'
import { bytes, exact, harmless, time } from '../format'
import GridTable from './GridTable.vue'
import StateMark from './StateMark.vue'

defineProps<{ files: components['schemas']['SeenFile'][] }>()
const says = (captures: Record<string, unknown> | undefined) =>
  Object.entries(captures ?? {})
    .map(([k, v]) => `${k} ${k === 'slot' && typeof v === 'string' ? time(v) : v}`)
    .join(', ')
</script>

<template>
  <GridTable name="landing">
    <thead>
      <tr>
        <th>File</th>
        <th class="n">Size</th>
        <th>Modified</th>
        <th>Taken</th>
        <th>State</th>
        <th>Its name says</th>
        <th>Why</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="f in files" :key="f.path">
        <td class="t">
          <router-link v-if="f.arrival" :to="`/arrivals/${f.arrival}`">{{ harmless(f.path) }}</router-link>
          <template v-else>{{ harmless(f.path) }}</template>
        </td>
        <td class="n">{{ bytes(f.size) }}</td>
        <td class="t" :title="exact(f.modified)">{{ time(f.modified) }}</td>
        <td>{{ f.taken ? 'yes' : 'no' }}</td>
        <td><StateMark v-if="f.state" :state="f.state" /></td>
        <td class="t">{{ says(f.captures) }}</td>
        <td class="quiet">{{ harmless(f.why) }}</td>
      </tr>
    </tbody>
  </GridTable>
</template>
