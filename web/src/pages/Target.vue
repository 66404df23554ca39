<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { useRoute } from 'vue-router'
import { api, got } from '../api/client'
import GridTable from '../components/GridTable.vue'
import RowBrowser from '../components/RowBrowser.vue'
import { bytes, count, exact, harmless, places, time } from '../format'

// A table that feeds end in: its shape, its sizes, its last loads.
const route = useRoute()
const table = computed(() => String(route.params.table))
const { data: t, error } = useQuery({
  queryKey: ['target', table],
  queryFn: () => got(api.GET('/api/v1/targets/{table}', { params: { path: { table: table.value }, query: { limit: 25 } } })),
})
const { data: rollups } = useQuery({ queryKey: ['rollups'], queryFn: () => got(api.GET('/api/v1/rollups')) })
const derived = computed(() => rollups.value?.items.filter((r) => r.sources.includes(table.value)) ?? [])
const used = computed(() => places.filter((p) => t.value?.loads.some((l) => l.balance[p.key])))
const removes = computed(() => t.value?.loads.some((l) => l.balance.removed))
</script>

<template>
  <p v-if="error" class="panel" role="alert">{{ error.message }}</p>
  <template v-if="t">
    <section class="panel">
      <div class="row spread">
        <h1 class="mono name">{{ t.table }}</h1>
        <div class="row">
          <router-link class="button" :to="`/chains?of=${t.table}`">Chain</router-link>
          <router-link v-if="t.key.length" class="button" :to="`/targets/${t.table}/row`">Look up a row…</router-link>
        </div>
      </div>
      <p v-if="t.about">{{ t.about }}</p>
      <p v-if="!t.there" class="nothing">The table is not there yet; the first load makes it.</p>
      <dl class="facts">
        <dt>Filled by</dt>
        <dd>
          <template v-for="(f, i) in t.feeds" :key="f">{{ i ? ', ' : '' }}<router-link :to="`/feeds/${f}`">{{ f }}</router-link></template>, mode {{ t.mode }}<template v-if="t.key.length"> by {{ t.key.join(', ') }}</template>
        </dd>
        <dt>Rows</dt>
        <dd>{{ count(t.rows) }} <span class="quiet">after the last load</span></dd>
        <dt>Size</dt>
        <dd>{{ bytes(t.bytes) }}, and {{ bytes(t.index_bytes) }} of indexes<template v-if="t.partitions">, in {{ count(t.partitions) }} partitions</template></dd>
        <dt>Journal</dt>
        <dd>{{ count(t.entries) }} entries, kept {{ t.kept }}</dd>
      </dl>
    </section>
    <section v-if="t.there" class="panel">
      <h2>Rows</h2>
      <RowBrowser :table="table" :columns="t.columns.map((c) => c.name)" />
    </section>
    <section v-if="t.loads.length" class="panel">
      <GridTable name="loads">
        <template #head>
          <h2>The last loads</h2>
        </template>
        <thead>
          <tr>
            <th>At</th>
            <th>File</th>
            <th class="n">Read</th>
            <th v-for="p in used" :key="p.key" class="n" :title="p.about">{{ p.name }}</th>
            <th v-if="removes" class="n" title="rows of the table that went">removed</th>
            <th class="n">Rows before</th>
            <th class="n">Rows after</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="l in t.loads" :key="l.nth" :class="{ off: !l.active }">
            <td class="t" :title="exact(l.committed_at)">{{ time(l.committed_at) }}</td>
            <td class="path">
              <router-link :to="`/arrivals/${l.arrival}`">{{ harmless(l.path) }}</router-link><span v-if="!l.active" class="quiet"> recalled</span>
            </td>
            <td class="n">{{ count(l.balance.read) }}</td>
            <td v-for="p in used" :key="p.key" class="n" :class="{ nil: !l.balance[p.key] }">{{ count(l.balance[p.key]) }}</td>
            <td v-if="removes" class="n" :class="{ nil: !l.balance.removed }">{{ count(l.balance.removed) }}</td>
            <td class="n">{{ l.rows_before === null ? '–' : count(l.rows_before) }}</td>
            <td class="n">{{ l.rows_after === null ? '–' : count(l.rows_after) }}</td>
          </tr>
        </tbody>
      </GridTable>
    </section>
    <section v-if="t.recalls.length" class="panel">
      <GridTable name="recalls">
        <template #head>
          <h2>Recalls</h2>
        </template>
        <tbody>
          <tr v-for="r in t.recalls" :key="r.nth">
            <td class="t">{{ r.off.length ? 'recalled' : 'put back' }} by {{ r.by }}</td>
            <td>{{ r.because }}</td>
          </tr>
        </tbody>
      </GridTable>
    </section>
    <section v-if="derived.length" class="panel">
      <GridTable name="rollups">
        <template #head>
          <h2>Rollups computed from it</h2>
        </template>
        <thead>
          <tr><th>Rollup</th><th>Table</th><th>By</th><th>Computed</th><th class="n">Keys waiting</th><th>What it is</th></tr>
        </thead>
        <tbody>
          <tr v-for="r in derived" :key="r.rollup">
            <td class="t">{{ r.rollup }}</td>
            <td class="mono t">{{ r.table }}</td>
            <td class="t">{{ r.key.join(', ') }}</td>
            <td class="t" :title="exact(r.computed_at)">{{ time(r.computed_at) }}</td>
            <td class="n" :class="{ nil: !r.waiting }">{{ count(r.waiting) }}</td>
            <td><span v-if="r.problem" class="bad">{{ r.problem }}</span><template v-else>{{ r.about }}</template></td>
          </tr>
        </tbody>
      </GridTable>
    </section>
    <section v-if="t.there" class="panel">
      <GridTable name="columns">
        <template #head>
          <h2>Shape</h2>
        </template>
        <thead>
          <tr><th>Column</th><th>Type</th><th>Key</th><th>Not null</th><th>What it is</th></tr>
        </thead>
        <tbody>
          <tr v-for="c in t.columns" :key="c.name">
            <td class="mono t">{{ c.name }}</td>
            <td class="t">{{ c.type }}</td>
            <td class="t">{{ c.key ? 'key' : '' }}</td>
            <td class="t">{{ c.not_null ? 'yes' : '' }}</td>
            <td>{{ c.about }}</td>
          </tr>
        </tbody>
      </GridTable>
    </section>
  </template>
</template>

<style scoped>
.name {
  font-size: 17px;
}
.bad {
  color: var(--bad);
}
.off .path a {
  text-decoration: line-through;
}
</style>
