<script setup lang="ts">
import { useInfiniteQuery } from '@tanstack/vue-query'
import { NButton, NCheckbox, NInput } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, got } from '../api/client'
import FirstFeed from '../components/FirstFeed.vue'
import GridTable from '../components/GridTable.vue'
import StateMark from '../components/StateMark.vue'
import { count, duration, exact, since, time } from '../format'

// What is looked for is in the address, so that a view can be kept and sent.
const route = useRoute()
const router = useRouter()
const go = (query: Record<string, string | undefined>) => void router.replace({ query: { ...route.query, ...query } })
const text = computed(() => String(route.query.text ?? ''))
const wrong = computed({ get: () => route.query.wrong === 'true', set: (v) => go({ wrong: v ? 'true' : undefined }) })
const typed = ref(text.value)
let typing: ReturnType<typeof setTimeout> | undefined
watch(typed, (v) => {
  clearTimeout(typing)
  typing = setTimeout(() => go({ text: v || undefined }), 200)
})
watch(text, (v) => (typed.value = v))

const { data, error, hasNextPage, fetchNextPage, isFetchingNextPage } = useInfiniteQuery({
  queryKey: ['feeds', 'pages', text, wrong],
  initialPageParam: '',
  queryFn: ({ pageParam }) => got(api.GET('/api/v1/feeds', { params: { query: { text: text.value || undefined, wrong: wrong.value || undefined, after: pageParam || undefined, limit: 50 } } })),
  getNextPageParam: (last) => last.next || undefined,
  placeholderData: (before) => before,
})
const feeds = computed(() => data.value?.pages.flatMap((p) => p.items) ?? [])
const total = computed(() => data.value?.pages[0]?.total ?? 0)
</script>

<template>
  <section class="panel">
    <div class="row spread head">
      <div class="row">
        <h1>Feeds</h1>
        <n-input v-model:value="typed" size="small" clearable class="search" placeholder="Name, supplier or folder" :input-props="{ 'aria-label': 'Find feeds' }" />
        <n-checkbox v-model:checked="wrong">needs a person</n-checkbox>
        <span v-if="data" class="quiet">{{ count(total) }} {{ total === 1 ? 'feed' : 'feeds' }}</span>
      </div>
      <div class="row">
        <router-link to="/rehearsal">Rehearse a feed file</router-link>
        <router-link to="/new-feed" class="button">New feed</router-link>
      </div>
    </div>
    <p v-if="error" role="alert">{{ error.message }}</p>
    <p v-if="data && !feeds.length && (text || wrong)" class="nothing">No such feed.</p>
    <FirstFeed v-else-if="data && !feeds.length" />
    <GridTable v-if="feeds.length" name="feeds">
      <thead>
        <tr>
          <th>Feed</th>
          <th><span class="unseen">State</span></th>
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
        <tr v-for="f in feeds" :key="f.name">
          <td class="t">
            <router-link :to="`/feeds/${f.name}`">{{ f.name }}</router-link>
            <div class="quiet">{{ f.landing }}<template v-if="f.listed_only">, listed only</template></div>
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
    </GridTable>
    <n-button v-if="hasNextPage" size="small" class="more" :loading="isFetchingNextPage" @click="fetchNextPage()">{{ count(total - feeds.length) }} more</n-button>
  </section>
</template>

<style scoped>
.head {
  margin-bottom: 8px;
}
.search {
  width: 220px;
}
.more {
  margin-top: 8px;
}
</style>
