<script setup lang="ts">
import CheckMark from './CheckMark.vue'
import GridTable from './GridTable.vue'

// What checks saw, also when they hold.
defineProps<{ results: { check: string; scope: string; else: string; held: boolean; saw: string }[]; feed?: string }>()
</script>

<template>
  <GridTable name="check-results">
    <thead>
      <tr><th>It held</th><th>Check</th><th>Of</th><th>It saw</th></tr>
    </thead>
    <tbody>
      <tr v-for="r in results" :key="r.check">
        <td class="t"><CheckMark :held="r.held" :otherwise="r.else" /></td>
        <td class="t">
          <router-link v-if="feed" :to="`/feeds/${feed}/checks/${r.check}`">{{ r.check }}</router-link>
          <template v-else>{{ r.check }}</template>
        </td>
        <td class="t quiet">the {{ r.scope }}</td>
        <td class="path">{{ r.saw }}</td>
      </tr>
    </tbody>
  </GridTable>
</template>
