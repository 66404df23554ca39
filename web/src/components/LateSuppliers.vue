<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { api, got } from '../api/client'
import { count, day, duration } from '../format'
import GridTable from './GridTable.vue'
import PlotLines from './PlotLines.vue'

// How late suppliers were, week by week: of their late files, 95 in a hundred came within so long after they were due.
const weeks = 12
const shown = 8 // lines that can be told apart
const { data } = useQuery({
  queryKey: ['volumes', 'suppliers'],
  queryFn: () => got(api.GET('/api/v1/volumes', { params: { query: { from: new Date(Date.now() - weeks * 7 * 86_400_000).toISOString(), by: 'week', suppliers: true, limit: 10_000 } } })),
  refetchInterval: 300_000,
})
const at = computed(() => [...new Set((data.value?.items ?? []).map((v) => v.at ?? ''))].sort())
const suppliers = computed(() => {
  const by = new Map<string, { name: string; sum: number; files: number; late: Map<string, number> }>()
  for (const v of data.value?.items ?? []) {
    const s = by.get(v.supplier) ?? { name: v.supplier || 'no supplier named', sum: 0, files: 0, late: new Map<string, number>() }
    by.set(v.supplier, s)
    s.files += v.files
    if (v.late.p95 == null) continue
    s.late.set(v.at ?? '', v.late.p95)
    s.sum += v.late.p95
  }
  return [...by.values()].filter((s) => s.late.size).sort((a, b) => b.sum - a.sum)
})
const series = computed(() => suppliers.value.slice(0, shown).map((s) => ({ name: s.name, values: at.value.map((t) => s.late.get(t) ?? null) })))
const weekOf = (t: string) => day(new Date(t), 'UTC')
</script>

<template>
  <section v-if="suppliers.length" class="panel">
    <h2>How late suppliers were <small class="quiet">over {{ weeks }} weeks; of 95 in a hundred late files, at the most</small></h2>
    <PlotLines :at="at.map(weekOf)" :series="series" about="How late suppliers were, week by week" />
    <GridTable name="late-suppliers">
      <thead>
        <tr>
          <th>Supplier</th>
          <th class="n">Files</th>
          <th class="n">Weeks with late files</th>
          <th v-for="t in at" :key="t" class="n">{{ weekOf(t) }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="s in suppliers" :key="s.name">
          <td>{{ s.name }}</td>
          <td class="n">{{ count(s.files) }}</td>
          <td class="n">{{ count(s.late.size) }}</td>
          <td v-for="t in at" :key="t" class="n" :class="{ nil: !s.late.has(t) }">{{ s.late.has(t) ? `< ${duration((s.late.get(t) ?? 0) * 1000)}` : '–' }}</td>
        </tr>
      </tbody>
    </GridTable>
  </section>
</template>
