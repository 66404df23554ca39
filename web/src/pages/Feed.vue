<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { NButton, NSelect, NTabPane, NTabs, useMessage } from 'naive-ui'
import { computed, defineAsyncComponent, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, got } from '../api/client'
import ArrivalTable from '../components/ArrivalTable.vue'
import CheckTable from '../components/CheckTable.vue'
import FileTable from '../components/FileTable.vue'
import LoadBars from '../components/LoadBars.vue'
import RejectTable from '../components/RejectTable.vue'
import RowTable from '../components/RowTable.vue'
import StateMark from '../components/StateMark.vue'
import { count, duration, exact, since, time } from '../format'
import { handOver } from '../samplefile'

const LoadTimes = defineAsyncComponent(() => import('../components/LoadTimes.vue')) // with the plots, which are large

const route = useRoute()
const router = useRouter()
const message = useMessage()
const name = computed(() => String(route.params.feed))
const params = computed(() => ({ path: { feed: name.value } }))
const tab = computed({
  get: () => String(route.query.show ?? 'ledger'),
  set: (show) => void router.replace({ query: show === 'ledger' ? {} : { show } }),
})
const { data: feed, error } = useQuery({ queryKey: ['feed', name], queryFn: () => got(api.GET('/api/v1/feeds/{feed}', { params: params.value })) })
const { data: arrivals } = useQuery({
  queryKey: ['arrivals', 'of', name],
  queryFn: () => got(api.GET('/api/v1/arrivals', { params: { query: { feed: name.value, limit: 100 } } })),
})
const { data: rows } = useQuery({
  queryKey: ['rows', name],
  queryFn: () => got(api.GET('/api/v1/feeds/{feed}/rows', { params: { ...params.value, query: { limit: 50 } } })),
  enabled: computed(() => tab.value === 'rows'),
})
const { data: rejects } = useQuery({
  queryKey: ['rejects', name],
  queryFn: () => got(api.GET('/api/v1/feeds/{feed}/rejects', { params: { ...params.value, query: { limit: 100 } } })),
  enabled: computed(() => tab.value === 'rejects'),
})
const { data: checks } = useQuery({
  queryKey: ['checks', name],
  queryFn: () => got(api.GET('/api/v1/feeds/{feed}/checks', { params: params.value })),
  enabled: computed(() => tab.value === 'checks'),
})
const { data: files } = useQuery({
  queryKey: ['files', name],
  queryFn: () => got(api.GET('/api/v1/feeds/{feed}/files', { params: { ...params.value, query: { limit: 1000 } } })),
  enabled: computed(() => tab.value === 'landing'),
})
const { data: versions } = useQuery({
  queryKey: ['versions', name],
  queryFn: () => got(api.GET('/api/v1/feeds/{feed}/versions', { params: params.value })),
  enabled: computed(() => tab.value === 'definition'),
})
const chosen = ref<number>()
const version = computed(() => versions.value?.items.find((v) => v.version === (chosen.value ?? feed.value?.version)))

async function act(what: Promise<unknown>, said: string) {
  try {
    await got(what as Promise<{ data?: unknown; error?: { detail?: string } }>)
    message.success(said)
  } catch (e) {
    message.error((e as Error).message, { duration: 8000 })
  }
}
// Files that are dropped on the page go into the landing, whole at once.
const over = ref(false)
async function drop(e: DragEvent) {
  over.value = false
  const files = [...(e.dataTransfer?.files ?? [])] // the event forgets them when it is over
  for (const file of files) {
    await handOver(name.value, file).then(
      () => message.success(`${file.name} lies at the landing.`),
      (e: Error) => message.error(e.message, { duration: 8000 }),
    )
  }
}
const run = () => act(api.POST('/api/v1/feeds/{feed}/runs', { params: params.value }), 'A run is queued.')
const pause = () => act(api.POST('/api/v1/feeds/{feed}/pause', { params: params.value }), 'Paused: no run begins by itself.')
const resume = () => act(api.POST('/api/v1/feeds/{feed}/resume', { params: params.value }), 'Runs begin by themselves again.')
</script>

<template>
  <p v-if="error" class="panel" role="alert">{{ error.message }}</p>
  <div v-if="feed" class="page" :class="{ over }" @dragover.prevent="over = true" @dragleave.self="over = false" @drop.prevent="drop">
    <section class="panel">
      <div class="row spread">
        <div class="row">
          <h1>{{ feed.name }}</h1>
          <StateMark v-if="feed.paused" state="paused" />
        </div>
        <div class="row">
          <n-button v-if="feed.paused" size="small" @click="resume">Resume</n-button>
          <n-button v-else size="small" @click="pause">Pause</n-button>
          <router-link v-slot="{ navigate }" :to="`/chains?of=${feed.name}`" custom><n-button size="small" @click="navigate()">Chain</n-button></router-link>
          <router-link v-slot="{ navigate }" :to="`/feeds/${feed.name}/edit`" custom><n-button size="small" @click="navigate()">Change</n-button></router-link>
          <router-link v-slot="{ navigate }" :to="`/feeds/${feed.name}/rehearsal`" custom><n-button size="small" @click="navigate()">Rehearse</n-button></router-link>
          <n-button size="small" type="primary" @click="run">Run now</n-button>
        </div>
      </div>
      <p class="about">{{ feed.about }}</p>
      <p v-if="feed.problem" class="problem" role="alert"><StateMark state="failed" bare /> Not working: {{ feed.problem }}</p>
      <p v-if="feed.waits" class="waits"><StateMark state="held" bare /> {{ feed.waits }}</p>
      <div class="two">
        <dl class="facts">
          <dt>Files</dt>
          <dd class="mono">{{ feed.landing }}/{{ feed.files }}</dd>
          <dt>Table</dt>
          <dd>
            <router-link v-if="!feed.table.includes('{')" class="mono" :to="`/targets/${feed.table}`">{{ feed.table }}</router-link><span v-else class="mono">{{ feed.table }}</span><template v-if="feed.key.length"> by {{ feed.key.join(', ') }}</template><template v-if="feed.newest">, the newest {{ feed.newest }} wins</template>
          </dd>
          <dt>Starts</dt>
          <dd>
            <template v-if="feed.on_arrival">when a file has been still for {{ feed.settle }} s</template>
            <template v-if="feed.cron"> at <span class="mono">{{ feed.cron }}</span>, next {{ time(feed.next_run_at) }}</template>
            <template v-if="feed.after.length"> after {{ feed.after.join(', ') }}</template>
          </dd>
          <template v-if="feed.due">
            <dt>Due</dt>
            <dd>
              {{ feed.due }}; <router-link :to="`/due?feed=${feed.name}`">calendar</router-link>
            </dd>
          </template>
          <dt>Supplier</dt>
          <dd>{{ [feed.supplier, feed.contact].filter(Boolean).join(', ') || '–' }}</dd>
          <dt>Tolerates</dt>
          <dd>{{ feed.tolerate === 'none' ? 'no rejects' : `${feed.tolerate} rejects` }}</dd>
        </dl>
        <dl class="facts">
          <dt>Waiting</dt>
          <dd>{{ count(feed.counts?.waiting ?? 0) }}<template v-if="feed.counts?.waiting && feed.counts.oldest_waiting_at">, the oldest for {{ since(feed.counts.oldest_waiting_at) }}</template></dd>
          <dt>Lag</dt>
          <dd title="From the coming of the file that was loaded last to its load">{{ feed.counts?.last_loaded_at ? duration(feed.counts.lag_seconds * 1000) : '–' }}</dd>
          <dt>Last noticed</dt>
          <dd :title="exact(feed.counts?.last_noticed_at)">{{ time(feed.counts?.last_noticed_at) }}</dd>
          <dt>Last loaded</dt>
          <dd :title="exact(feed.counts?.last_loaded_at)">{{ time(feed.counts?.last_loaded_at) }}</dd>
          <dt>Last listed</dt>
          <dd :title="exact(feed.listed_at)">{{ time(feed.listed_at) }}</dd>
          <dt>Arrivals</dt>
          <dd class="row states">
            <router-link v-for="(n, s) in feed.counts?.states" :key="s" :to="`/ledger?feed=${feed.name}&state=${s}`" class="row">{{ count(n) }} <StateMark :state="String(s)" /></router-link>
          </dd>
        </dl>
      </div>
    </section>
    <section class="panel">
      <h2>The last loads</h2>
      <LoadBars :arrivals="arrivals?.items ?? []" />
    </section>
    <section class="panel">
      <n-tabs v-model:value="tab" size="small" animated>
        <n-tab-pane name="ledger" tab="Ledger">
          <ArrivalTable v-if="arrivals?.items.length" name="ledger" :arrivals="arrivals.items" />
          <p v-else class="nothing">Nothing has arrived in {{ feed.landing }} yet.</p>
        </n-tab-pane>
        <n-tab-pane name="landing" tab="Landing">
          <p class="quiet drop">Drop files here, or anywhere on this page, to put them into <span class="mono">{{ feed.landing }}</span>.</p>
          <FileTable v-if="files?.items.length" :files="files.items" />
          <p v-else class="nothing">The landing is empty.</p>
          <p v-if="files?.more" class="quiet">There are more; <code>mullein feed which {{ feed.name }} --limit 20000</code> lists them.</p>
        </n-tab-pane>
        <n-tab-pane name="rows" tab="Rows">
          <RowTable v-if="rows?.rows.length" :rows="rows" />
          <p v-else class="nothing">The table holds no rows yet.</p>
        </n-tab-pane>
        <n-tab-pane name="times" tab="Times">
          <LoadTimes :arrivals="arrivals?.items ?? []" />
        </n-tab-pane>
        <n-tab-pane name="checks" tab="Checks">
          <CheckTable v-if="checks?.items.length" :feed="feed.name" :checks="checks.items" />
          <p v-else class="nothing">Nothing beyond the columns' constraints must be true.</p>
        </n-tab-pane>
        <n-tab-pane name="rejects" tab="Rejects">
          <p v-if="rejects?.items.length" class="quiet">
            <router-link :to="`/rejects?feed=${feed.name}`">By what they broke, and to be mended</router-link>
          </p>
          <RejectTable v-if="rejects?.items.length" :rejects="rejects.items" path />
          <p v-else class="nothing">No row was rejected.</p>
        </n-tab-pane>
        <n-tab-pane name="definition" tab="Definition">
          <n-select
            v-if="versions && versions.items.length > 1"
            :value="version?.version"
            size="small"
            class="versions"
            :options="versions.items.map((v) => ({ value: v.version, label: `Version ${v.version}, put ${time(v.put_at)} by ${v.put_by}` }))"
            @update:value="(v: number) => (chosen = v)"
          />
          <pre class="mono">{{ version?.definition }}</pre>
        </n-tab-pane>
      </n-tabs>
    </section>
  </div>
</template>

<style scoped>
.over {
  outline: 2px dashed var(--sun);
  outline-offset: 4px;
}
.drop {
  border: 1px dashed var(--line);
  border-radius: 4px;
  padding: 8px 10px;
  margin: 0 0 8px;
}
.waits {
  color: var(--warm);
}
.about {
  margin: 4px 0 10px;
  color: var(--quiet);
}
.problem {
  color: var(--bad);
}
.two {
  display: grid;
  grid-template-columns: 3fr 2fr;
  gap: 24px;
}
.states {
  flex-wrap: wrap;
}
.states > a {
  gap: 5px;
}
.versions {
  max-width: 420px;
}
pre {
  overflow-x: auto;
  margin: 8px 0 0;
}
</style>
