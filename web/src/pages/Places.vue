<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { NButton, NInput, NSelect } from 'naive-ui'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import GridTable from '../components/GridTable.vue'
import StateMark from '../components/StateMark.vue'
import { api, got } from '../api/client'
import type { components } from '../api/schema'
import { bytes, count, exact, harmless, time } from '../format'

// Places outside of the service's machine: how they do, a test of each, and what lies there.
const route = useRoute()
const router = useRouter()
const { data, error, refetch } = useQuery({ queryKey: ['places'], staleTime: 0, refetchInterval: 10_000, queryFn: () => got(api.GET('/api/v1/places')) })

const { data: queues } = useQuery({ queryKey: ['queues'], staleTime: 0, refetchInterval: 10_000, queryFn: () => got(api.GET('/api/v1/queues')) })

const tests = ref<Record<string, components['schemas']['PlaceTest'] | string>>({})
async function test(place: string) {
  tests.value[place] = 'trying...'
  try {
    tests.value[place] = await got(api.POST('/api/v1/places/{place}/test', { params: { path: { place } } }))
  } catch (e) {
    tests.value[place] = (e as Error).message
  }
  void refetch()
}

const place = computed(() => (typeof route.query.place === 'string' ? route.query.place : ''))
const folder = computed(() => (typeof route.query.folder === 'string' ? route.query.folder : ''))
const wanted = ref(folder.value)
const browse = (name: string, below = '') => {
  wanted.value = below
  return router.replace({ query: { place: name, folder: below || undefined } })
}
const browsed = computed(() => data.value?.items.filter((p) => !p.kind.startsWith('http')).map((p) => ({ value: p.place, label: p.place })) ?? [])
const most = 200
const { data: files, error: unlisted, isFetching } = useQuery({
  queryKey: ['place-files', place, folder],
  enabled: computed(() => place.value !== ''),
  staleTime: 0,
  retry: false,
  queryFn: () => got(api.GET('/api/v1/places/{place}/files', { params: { path: { place: place.value }, query: { folder: folder.value, limit: most } } })),
})
</script>

<template>
  <section class="panel">
    <h1>Places</h1>
    <p v-if="error" role="alert">{{ error.message }}</p>
    <p v-if="data && !data.items.length" class="nothing">None: all landings are folders of this machine. Name one under <code>places</code> in <code>mullein.yaml</code>: an SFTP or FTP server, a bucket, or files by HTTP.</p>
    <GridTable v-if="data?.items.length" name="places">
      <thead>
        <tr><th>Place</th><th>Address</th><th>User</th><th class="n">Feeds</th><th class="n" title="That this service made since it began">Requests</th><th>Credential ends</th><th>How it is</th><th><span class="unseen">To do</span></th></tr>
      </thead>
      <tbody>
        <template v-for="p in data.items" :key="p.place">
          <tr>
            <td>{{ p.place }}</td>
            <td class="mono address">{{ p.address }}</td>
            <td>{{ p.user }}</td>
            <td class="n"><router-link v-if="p.feeds" :to="{ path: '/feeds', query: { text: `place:${p.place}*` } }">{{ count(p.feeds) }}</router-link><template v-else>0</template></td>
            <td class="n">{{ count(p.requests) }}</td>
            <td class="t" :title="exact(p.until)">{{ p.until ? p.until.slice(0, 10) : '' }}</td>
            <td class="what"><template v-if="p.problem"><StateMark state="failed" bare /> {{ harmless(p.problem) }}</template><span v-else class="quiet">no trouble</span></td>
            <td class="row">
              <n-button size="tiny" @click="test(p.place)">Test</n-button>
              <n-button v-if="!p.kind.startsWith('http')" size="tiny" @click="browse(p.place)">Browse</n-button>
            </td>
          </tr>
          <tr v-if="tests[p.place]">
            <td></td>
            <td colspan="7" role="status">
              <template v-if="typeof tests[p.place] === 'string'">{{ tests[p.place] }}</template>
              <span v-for="s in (tests[p.place] as components['schemas']['PlaceTest']).steps ?? []" :key="s.what" class="step"><StateMark :state="s.good ? 'loaded' : 'failed'" bare /> {{ s.what }}: {{ harmless(s.said) }}</span>
            </td>
          </tr>
        </template>
      </tbody>
    </GridTable>
  </section>
  <section v-if="queues?.items.length" class="panel">
    <GridTable name="queues">
      <template #head>
        <h2>Queues</h2>
      </template>
      <thead>
        <tr><th>Queue</th><th>Address</th><th class="n" title="That came to this service since it began">Messages</th><th class="n" title="Of nothing that is known">Unknown</th><th>Last</th><th>How it is</th></tr>
      </thead>
      <tbody>
        <tr v-for="q in queues.items" :key="q.queue">
          <td>{{ q.queue }}</td>
          <td class="mono address">{{ q.url }}</td>
          <td class="n">{{ count(q.messages) }}</td>
          <td class="n" :title="q.last_said">{{ count(q.unknown) }}</td>
          <td class="t" :title="exact(q.last_at)">{{ time(q.last_at) }}</td>
          <td class="what"><template v-if="q.problem"><StateMark state="failed" bare /> {{ harmless(q.problem) }}</template><span v-else class="quiet">read</span></td>
        </tr>
      </tbody>
    </GridTable>
  </section>
  <section v-if="browsed.length" class="panel">
    <h2>What lies there</h2>
    <form class="row" @submit.prevent="place && browse(place, wanted)">
      <n-select :value="place || null" :options="browsed" size="small" placeholder="Place" aria-label="Place" class="pick" @update:value="(name: string) => browse(name)" />
      <n-input v-model:value="wanted" size="small" placeholder="Folder; none for all" :input-props="{ 'aria-label': 'Folder' }" class="pick" />
      <n-button size="small" attr-type="submit" :disabled="!place" :loading="isFetching">Look</n-button>
    </form>
    <p v-if="unlisted" role="alert">{{ unlisted.message }}</p>
    <p v-else-if="files && !files.items.length" class="nothing">No files there.</p>
    <GridTable v-if="files?.items.length" name="lies-there">
      <thead>
        <tr><th>File</th><th class="n">Size</th><th>Modified</th><th><span class="unseen">To do</span></th></tr>
      </thead>
      <tbody>
        <tr v-for="f in files.items" :key="f.path">
          <td class="mono">{{ f.path }}</td>
          <td class="n">{{ bytes(f.size) }}</td>
          <td class="t" :title="exact(f.modified)">{{ time(f.modified) }}</td>
          <td>{{ harmless(f.problem) }}</td>
        </tr>
      </tbody>
    </GridTable>
    <p v-if="files?.more" class="quiet">These are {{ most }} of more; a folder narrows them.</p>
  </section>
</template>

<style scoped>
.address {
  overflow-wrap: anywhere;
}
.step {
  display: inline-block;
  margin-right: 20px;
}
form {
  margin-bottom: 8px;
}
.pick {
  width: 240px;
}
</style>
