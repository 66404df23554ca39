<script setup lang="ts">
import { exact, time } from '../format'
import CheckMark from './CheckMark.vue'
import GridTable from './GridTable.vue'
import type { components } from '../api/schema'

defineProps<{ checks: components['schemas']['FeedCheck'][]; feed: string }>()
</script>

<template>
  <GridTable name="checks">
    <thead>
      <tr>
        <th>Check</th>
        <th>Of the</th>
        <th>Must be true</th>
        <th>Else</th>
        <th>Last</th>
        <th>It saw</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="c in checks" :key="c.check">
        <td class="t">
          <router-link :to="`/feeds/${feed}/checks/${c.check}`">{{ c.check }}</router-link>
        </td>
        <td>{{ c.scope }}</td>
        <td class="mono path">{{ c.must }}</td>
        <td>{{ c.else }}</td>
        <td class="t">
          <span v-if="c.last" :title="exact(c.last.at)"><CheckMark :held="c.last.held" :otherwise="c.else" /> {{ time(c.last.at) }}</span>
          <span v-else class="quiet">not asked yet</span>
        </td>
        <td class="path">{{ c.last?.saw }}</td>
      </tr>
    </tbody>
  </GridTable>
</template>
