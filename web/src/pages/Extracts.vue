<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { NButton, useMessage } from 'naive-ui'
import GridTable from '../components/GridTable.vue'
import StateMark from '../components/StateMark.vue'
import { api, got } from '../api/client'
import { count, exact, harmless, time } from '../format'

// Extracts: rows of databases that are written as files, and how far each has come.
const message = useMessage()
const { data, error, refetch } = useQuery({ queryKey: ['extracts'], queryFn: () => got(api.GET('/api/v1/extracts')) })

async function run(name: string) {
  try {
    await got(api.POST('/api/v1/extracts/{extract}/run', { params: { path: { extract: name } } }))
  } catch (e) {
    message.error((e as Error).message, { duration: 8000 })
  }
  void refetch()
}
</script>

<template>
  <section class="panel">
    <h1>Extracts</h1>
    <p v-if="error" role="alert">{{ error.message }}</p>
    <p v-if="data && !data.items.length" class="nothing">
      None. An extract writes rows of a database as files into a landing, from where feeds take them: <code>mullein extract put FILE</code> makes one.
    </p>
    <GridTable v-if="data?.items.length" name="extracts">
      <thead>
        <tr><th>Extract</th><th>State</th><th>From</th><th>To</th><th>Mark</th><th class="n">Last rows</th><th>Last run</th><th>Next</th><th><span class="unseen">To do</span></th></tr>
      </thead>
      <tbody>
        <template v-for="x in data.items" :key="x.extract">
          <tr>
            <td>
              <router-link :to="`/extracts/${x.extract}`">{{ x.extract }}</router-link>
            </td>
            <td><StateMark :state="x.state" /></td>
            <td class="mono from" :title="x.from">{{ x.connection }}: {{ harmless(x.from) }}</td>
            <td>
              <template v-if="x.feeds.length">
                <router-link v-for="f in x.feeds" :key="f" :to="`/feeds/${f}`" class="feed">{{ f }}</router-link>
              </template>
              <span v-else class="quiet">{{ x.landing }}, no feed</span>
            </td>
            <td class="mono">{{ x.mark || (x.by ? 'none yet' : 'all rows') }}</td>
            <td class="n">{{ x.last ? count(x.last.rows) : '' }}</td>
            <td class="t" :title="exact(x.last?.started_at)">{{ time(x.last?.started_at) }}</td>
            <td class="t" :title="exact(x.next_at)">{{ x.next_at ? time(x.next_at) : '' }}</td>
            <td><n-button size="tiny" :disabled="x.state === 'working'" @click="run(x.extract)">Run now</n-button></td>
          </tr>
          <tr v-if="x.problem">
            <td></td>
            <td colspan="8" class="bad"><StateMark state="failed" bare /> {{ harmless(x.problem) }}<template v-if="x.try_after">; tried again at {{ time(x.try_after) }}</template></td>
          </tr>
        </template>
      </tbody>
    </GridTable>
  </section>
</template>

<style scoped>
.from {
  max-width: 260px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.feed {
  margin-right: 8px;
}
</style>
