<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { api, got } from '../api/client'
import StateMark from '../components/StateMark.vue'
import { count, exact, time } from '../format'

const { data, error } = useQuery({ queryKey: ['feeds'], queryFn: () => got(api.GET('/api/v1/feeds')) })
</script>

<template>
  <section class="panel">
    <h1>Feeds</h1>
    <p v-if="error" role="alert">{{ error.message }}</p>
    <p v-if="data && !data.items.length" class="nothing">No feeds yet. <code>mullein feed put FILE</code> creates one from a feed file.</p>
    <table v-if="data?.items.length" class="grid">
      <thead>
        <tr>
          <th>Feed</th>
          <th></th>
          <th>Supplier</th>
          <th>Files</th>
          <th>Table</th>
          <th class="n">Waiting</th>
          <th class="n">Rows in 24 h</th>
          <th class="n">Wrong</th>
          <th>Last noticed</th>
          <th>Last loaded</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="f in data.items" :key="f.name">
          <td class="t">
            <router-link :to="`/feeds/${f.name}`">{{ f.name }}</router-link>
          </td>
          <td>
            <StateMark v-if="f.problem" state="failed" :title="f.problem" bare />
            <StateMark v-else-if="f.paused" state="paused" />
          </td>
          <td>{{ f.supplier || '–' }}</td>
          <td class="mono path">{{ f.landing }}/{{ f.files }}</td>
          <td class="mono">{{ f.table }}</td>
          <td class="n" :class="{ nil: !f.counts?.waiting }">{{ count(f.counts?.waiting ?? 0) }}</td>
          <td class="n" :class="{ nil: !f.counts?.rows_today }">{{ count(f.counts?.rows_today ?? 0) }}</td>
          <td class="n" :class="{ nil: !f.counts?.needs_person }">{{ count(f.counts?.needs_person ?? 0) }}</td>
          <td class="t" :title="exact(f.counts?.last_noticed_at)">{{ time(f.counts?.last_noticed_at) }}</td>
          <td class="t" :title="exact(f.counts?.last_loaded_at)">{{ time(f.counts?.last_loaded_at) }}</td>
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
