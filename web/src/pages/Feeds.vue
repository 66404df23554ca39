<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { api, got } from '../api/client'
import StateMark from '../components/StateMark.vue'
import { count, duration, exact, since, time } from '../format'

const { data, error } = useQuery({ queryKey: ['feeds'], queryFn: () => got(api.GET('/api/v1/feeds')) })
</script>

<template>
  <section class="panel">
    <div class="row spread">
      <h1>Feeds</h1>
      <router-link to="/rehearsal">Rehearse a feed file</router-link>
    </div>
    <p v-if="error" role="alert">{{ error.message }}</p>
    <p v-if="data && !data.items.length" class="nothing">No feeds yet. <code>mullein feed draft FILE</code> proposes a feed file from a sample, <code>mullein feed put FILE</code> creates a feed.</p>
    <table v-if="data?.items.length" class="grid">
      <thead>
        <tr>
          <th>Feed</th>
          <th></th>
          <th>Supplier</th>
          <th>Table</th>
          <th class="n">Waiting</th>
          <th class="n">Oldest</th>
          <th class="n">Rows in 24 h</th>
          <th class="n">Wrong</th>
          <th>Last noticed</th>
          <th>Last loaded</th>
          <th class="n">Lag</th>
          <th>Next</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="f in data.items" :key="f.name">
          <td class="t">
            <router-link :to="`/feeds/${f.name}`">{{ f.name }}</router-link>
            <div class="quiet">{{ f.landing }}</div>
          </td>
          <td>
            <StateMark v-if="f.problem" state="failed" :title="f.problem" bare />
            <StateMark v-else-if="f.waits" state="held" :title="f.waits" bare />
            <StateMark v-else-if="f.paused" state="paused" />
          </td>
          <td>{{ f.supplier || '–' }}</td>
          <td class="mono t"><router-link v-if="!f.table.includes('{')" :to="`/targets/${f.table}`">{{ f.table }}</router-link><template v-else>{{ f.table }}</template></td>
          <td class="n" :class="{ nil: !f.counts?.waiting }">{{ count(f.counts?.waiting ?? 0) }}</td>
          <td class="n quiet">{{ f.counts?.waiting && f.counts.oldest_waiting_at ? since(f.counts.oldest_waiting_at) : '' }}</td>
          <td class="n" :class="{ nil: !f.counts?.rows_today }">{{ count(f.counts?.rows_today ?? 0) }}</td>
          <td class="n" :class="{ nil: !f.counts?.needs_person }">{{ count(f.counts?.needs_person ?? 0) }}</td>
          <td class="t" :title="exact(f.counts?.last_noticed_at)">{{ time(f.counts?.last_noticed_at) }}</td>
          <td class="t" :title="exact(f.counts?.last_loaded_at)">{{ time(f.counts?.last_loaded_at) }}</td>
          <td class="n quiet">{{ f.counts?.last_loaded_at ? duration(f.counts.lag_seconds * 1000) : '' }}</td>
          <td class="t">
            <span v-if="f.next_run_at" :title="exact(f.next_run_at)">run {{ time(f.next_run_at) }}</span>
            <span v-else-if="f.next_due_at" class="quiet" :title="exact(f.next_due_at)">due {{ time(f.next_due_at) }}</span>
          </td>
        </tr>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
h1 {
  margin-bottom: 8px;
}
</style>
