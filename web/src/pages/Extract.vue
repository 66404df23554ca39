<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { NButton, NInput, useMessage } from 'naive-ui'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import AskReason from '../components/AskReason.vue'
import BalanceBar from '../components/BalanceBar.vue'
import GridTable from '../components/GridTable.vue'
import StateMark from '../components/StateMark.vue'
import { api, got } from '../api/client'
import type { components } from '../api/schema'
import { bytes, count, duration, exact, harmless, time } from '../format'

// One extract: how far it has come, what a run would write, and what became of the rows of each window.
type Window = components['schemas']['ExtractWindow']
const route = useRoute()
const message = useMessage()
const name = computed(() => String(route.params.extract))
const params = computed(() => ({ path: { extract: name.value } }))
const { data: extract, error, refetch } = useQuery({ queryKey: ['extract', name], queryFn: () => got(api.GET('/api/v1/extracts/{extract}', { params: params.value })) })
const most = ref(20)
const { data: windows } = useQuery({
  queryKey: ['extract-windows', name, most],
  queryFn: () => got(api.GET('/api/v1/extracts/{extract}/windows', { params: { ...params.value, query: { limit: most.value } } })),
})
const rehearsal = ref<components['schemas']['ExtractRehearsal']>()
const rehearsing = ref(false)
const mark = ref('')

async function tried(what: Promise<unknown>) {
  try {
    await what
  } catch (e) {
    message.error((e as Error).message, { duration: 8000 })
  }
  void refetch()
}
const run = () => tried(got(api.POST('/api/v1/extracts/{extract}/run', { params: params.value })))
async function rehearse() {
  rehearsing.value = true
  await tried(got(api.GET('/api/v1/extracts/{extract}/rehearsal', { params: params.value })).then((r) => (rehearsal.value = r)))
  rehearsing.value = false
}
const pause = (because: string) => got(api.POST('/api/v1/extracts/{extract}/pause', { params: params.value, body: { because } })).then(() => refetch())
const resume = (because: string) => got(api.POST('/api/v1/extracts/{extract}/resume', { params: params.value, body: { because } })).then(() => refetch())
const setMark = (because: string) =>
  got(api.POST('/api/v1/extracts/{extract}/mark', { params: params.value, body: { mark: mark.value, because } })).then(() => {
    mark.value = ''
    return refetch()
  })
const setBack = (run: number) => (because: string) =>
  got(api.POST('/api/v1/extracts/{extract}/mark', { params: params.value, body: { run, because } })).then(() => refetch())
const took = (w: Window) => (w.finished_at ? duration(Date.parse(w.finished_at) - Date.parse(w.started_at)) : '')
</script>

<template>
  <p v-if="error" role="alert">{{ error.message }}</p>
  <section v-if="extract" class="panel">
    <div class="row spread">
      <h1>{{ extract.extract }} <StateMark :state="extract.state" /></h1>
      <div class="row">
        <n-button size="small" type="primary" :disabled="extract.state === 'working'" @click="run">Run now</n-button>
        <n-button size="small" :loading="rehearsing" @click="rehearse">Rehearse</n-button>
        <AskReason v-if="extract.state !== 'paused'" label="Pause" :title="`Pause ${extract.extract}`" about="No run begins by itself until it is resumed." :act="pause" />
        <AskReason v-else label="Resume" :title="`Resume ${extract.extract}`" :act="resume" />
      </div>
    </div>
    <p v-if="extract.about">{{ extract.about }}</p>
    <p v-if="extract.problem" role="alert"><StateMark state="failed" bare /> {{ harmless(extract.problem) }}<template v-if="extract.try_after">; tried again at {{ time(extract.try_after) }}</template></p>
    <dl class="facts">
      <dt>From</dt>
      <dd class="mono">{{ extract.connection }}: {{ harmless(extract.from) }}</dd>
      <dt>What is new</dt>
      <dd v-if="extract.daily">days of {{ extract.by }}, once they are over</dd>
      <dd v-else-if="extract.by">by {{ extract.by }}</dd>
      <dd v-else>all rows each time</dd>
      <dt>To</dt>
      <dd><span class="mono">{{ extract.landing }}/{{ extract.files }}</span></dd>
      <dt>Taken by</dt>
      <dd><router-link v-for="f in extract.feeds" :key="f" :to="`/feeds/${f}`">{{ f }}</router-link><span v-if="!extract.feeds.length" class="quiet">no feed</span></dd>
      <template v-if="extract.by">
        <dt>Mark</dt>
        <dd class="mono">{{ extract.mark || 'none yet' }}</dd>
      </template>
      <template v-if="extract.next_at">
        <dt>Next run</dt>
        <dd :title="exact(extract.next_at)">{{ time(extract.next_at) }}</dd>
      </template>
      <template v-if="extract.state === 'working'">
        <dt>Written</dt>
        <dd>{{ count(extract.written) }} rows</dd>
      </template>
    </dl>
    <p v-if="rehearsal" role="status">
      <template v-if="rehearsal.empty">Nothing is new since {{ rehearsal.mark }}.</template>
      <template v-else>A run would write {{ count(rehearsal.rows) }} rows, <span class="mono">{{ rehearsal.window }}</span>, into <span class="mono">{{ rehearsal.names[0] }}</span>.</template>
      <template v-if="rehearsal.ahead"> {{ count(rehearsal.ahead) }} rows are later than the database's clock, and wait.</template>
      <template v-if="rehearsal.blank"> {{ count(rehearsal.blank) }} rows have no {{ extract.by }}, and are in no window.</template>
    </p>
    <form v-if="extract.by" class="row" @submit.prevent>
      <n-input v-model:value="mark" size="small" placeholder="A value up to which all is written" :input-props="{ 'aria-label': 'Mark' }" style="width: 280px" />
      <AskReason label="Set the mark" :title="`Set the mark of ${extract.extract}`" :about="mark ? `What is up to ${mark} counts as written.` : 'Nothing counts as written: all rows are written again.'" :act="setMark" />
    </form>
  </section>
  <section class="panel">
    <h2>Windows</h2>
    <p v-if="windows && !windows.items.length" class="nothing">No run yet.</p>
    <GridTable v-if="windows?.items.length" name="windows">
      <thead>
        <tr><th class="n">Run</th><th>State</th><th>Began</th><th>Window</th><th class="n">Source</th><th class="n">Files</th><th class="n">Size</th><th>Took</th><th>Where the rows went</th><th><span class="unseen">To do</span></th></tr>
      </thead>
      <tbody>
        <tr v-for="w in windows.items" :key="w.run">
          <td class="n">{{ w.run }}</td>
          <td><StateMark :state="w.state" /></td>
          <td class="t" :title="exact(w.started_at)">{{ time(w.started_at) }}<div class="quiet">{{ w.cause === 'hand' ? w.by : w.cause }}</div></td>
          <td class="mono window">{{ w.window }}</td>
          <td class="n">{{ w.source == null ? '' : count(w.source) }}</td>
          <td class="n" :title="w.files.map((f) => `${f.name}: ${f.rows} rows`).join('\n')">{{ count(w.rows) }}<div class="quiet">in {{ w.files.length }}</div></td>
          <td class="n">{{ w.bytes ? bytes(w.bytes) : '' }}</td>
          <td class="t">{{ took(w) }}</td>
          <td class="where">
            <div v-if="w.reason">{{ harmless(w.reason) }}</div>
            <div v-for="l in w.loads" :key="l.feed">
              <template v-if="l.waiting">{{ l.feed }} has loaded {{ l.loaded }} of {{ l.loaded + l.waiting }} files</template>
              <BalanceBar v-else :balance="l.balance" />
            </div>
            <div v-if="w.source != null && !w.adds && w.state === 'done'" class="bad">{{ w.line }}</div>
            <div v-if="w.ahead" class="quiet">{{ count(w.ahead) }} rows are later than the clock, and wait</div>
            <div v-if="w.blank" class="quiet">{{ count(w.blank) }} rows without {{ extract?.by }} are in no window</div>
          </td>
          <td><AskReason v-if="w.state === 'done' && extract?.by" label="Back to here" :title="`Back to where run ${w.run} began`" :about="`All rows since ${w.mark_before || 'the beginning'} are written again.`" :act="setBack(w.run)" /></td>
        </tr>
      </tbody>
    </GridTable>
    <n-button v-if="windows?.next && most < 1000" size="small" @click="most = Math.min(1000, most * 4)">Show older ones</n-button>
  </section>
  <section v-if="extract" class="panel">
    <h2>Its file</h2>
    <pre class="mono">{{ extract.definition }}</pre>
  </section>
</template>

<style scoped>
.facts {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 4px 16px;
  margin: 8px 0;
}
dt {
  color: var(--quiet);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
.window {
  min-width: 180px;
  max-width: 240px;
  overflow-wrap: anywhere;
}
.where {
  min-width: 180px;
}
</style>
