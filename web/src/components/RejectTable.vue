<script setup lang="ts">
import { harmless } from '../format'
import type { Reject } from '../api/client'
import GridTable from './GridTable.vue'
import RejectRow from './RejectRow.vue'

defineProps<{ rejects: Reject[]; path?: boolean }>()
</script>

<template>
  <GridTable name="rejects">
    <thead>
      <tr>
        <th class="n">Line</th>
        <th>Column</th>
        <th>Why</th>
        <th>The row as it stands in the file</th>
        <th v-if="path">File</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="r in rejects" :key="`${r.arrival}-${r.number}`">
        <td class="n">{{ r.line }}</td>
        <td class="t">{{ r.column || 'the row' }}</td>
        <td>{{ harmless(r.reason) }}</td>
        <td class="mono path">
          <RejectRow :reject="r" />
          <router-link v-if="r.mended_in" :to="`/arrivals/${r.mended_in}`"> mended in arrival {{ r.mended_in }}</router-link>
        </td>
        <td v-if="path" class="path">
          <router-link :to="`/arrivals/${r.arrival}`">{{ harmless(r.path) }}</router-link>
        </td>
      </tr>
    </tbody>
  </GridTable>
</template>
