<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { NInput, useMessage } from 'naive-ui'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, got, type Reject, type RejectGroup } from '../api/client'
import AskReason from '../components/AskReason.vue'
import FeedPick from '../components/FeedPick.vue'
import GridTable from '../components/GridTable.vue'
import RejectRow from '../components/RejectRow.vue'
import { count, exact, harmless, time } from '../format'

// Rejects by what they broke; a group opens into its rows, which can be mended
// and handed in again.
const route = useRoute()
const router = useRouter()
const message = useMessage()
const at = (key: string) => String(route.query[key] ?? '')
const go = (change: Record<string, string>) => void router.replace({ query: Object.fromEntries(Object.entries({ ...route.query, ...change }).filter(([, v]) => v)) })
const feed = computed<string | null>({ get: () => at('feed') || null, set: (v) => go({ feed: v ?? '', rule: '', column: '', of: '' }) })
const { data: groups, error } = useQuery({
  queryKey: ['reject-groups', feed],
  queryFn: () => got(api.GET('/api/v1/reject-groups', { params: { query: { feed: feed.value || undefined } } })),
})
const all = computed(() => (groups.value?.items ?? []).reduce((n, g) => n + g.count, 0))
const share = (g: RejectGroup) => (all.value ? g.count / all.value : 0)
const same = (g: RejectGroup) => g.feed === at('of') && g.rule === at('rule') && g.column === at('column')
const chosen = computed(() => groups.value?.items.find(same) ?? (at('rule') ? undefined : groups.value?.items[0]))
const choose = (g: RejectGroup) => go({ of: g.feed, rule: g.rule, column: g.column })
const { data: rejects } = useQuery({
  queryKey: ['rejects', 'group', computed(() => [chosen.value?.feed, chosen.value?.rule, chosen.value?.column])],
  queryFn: () =>
    got(
      api.GET('/api/v1/feeds/{feed}/rejects', {
        params: { path: { feed: chosen.value!.feed }, query: { rule: chosen.value!.rule, column: chosen.value!.column, limit: 200 } },
      }),
    ),
  enabled: computed(() => !!chosen.value),
})

// What a person wrote in place of a row, by arrival and number.
const mended = ref<Record<string, string>>({})
const key = (r: Reject) => `${r.arrival}-${r.number}`
const changed = computed(() => (rejects.value?.items ?? []).filter((r) => mended.value[key(r)] !== undefined && mended.value[key(r)] !== r.original))

async function handIn(because: string) {
  const of = new Map<number, { number: number; text: string }[]>()
  for (const r of changed.value) of.set(r.arrival, [...(of.get(r.arrival) ?? []), { number: r.number, text: mended.value[key(r)]! }])
  for (const [id, rows] of of) {
    const a = await got(api.POST('/api/v1/arrivals/{id}/mend', { params: { path: { id } }, body: { rows, because } }))
    for (const r of rows) delete mended.value[`${id}-${r.number}`]
    message.success(`${rows.length} ${rows.length === 1 ? 'row is' : 'rows are'} handed in as arrival ${a.id}.`)
  }
}

// Everything that is not mended yet, as CSV with the reasons.
function asCSV() {
  // An apostrophe keeps spreadsheets from running a cell; hand-in takes it off again.
  const cell = (v: unknown) => `"${String(v).replace(/^(?=[=+\-@\t\r'])/, "'").replaceAll('"', '""')}"`
  const rows = (rejects.value?.items ?? []).filter((r) => !r.mended_in)
  return ['arrival,number,path,line,column,value,reason,original', ...rows.map((r) => [r.arrival, r.number, r.path, r.line, r.column, r.value, r.reason, r.original].map(cell).join(',')), ''].join('\n')
}
</script>

<template>
  <p v-if="error" class="panel" role="alert">{{ error.message }}</p>
  <section class="panel">
    <div class="row spread">
      <h1>Rejects</h1>
      <FeedPick v-model="feed" class="feed" clearable placeholder="All feeds" />
    </div>
    <p v-if="groups && !groups.items.length" class="nothing">No row was rejected in the last 30 days.</p>
    <GridTable v-else name="reject-groups">
      <thead>
        <tr>
          <th>Feed</th>
          <th>Broke</th>
          <th>Column</th>
          <th class="n">Open</th>
          <th class="n">Rejects</th>
          <th>Share</th>
          <th class="n">Files</th>
          <th>Last</th>
          <th>Such as</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="g in groups?.items" :key="`${g.feed} ${g.rule} ${g.column}`" class="group" :class="{ chosen: g === chosen }" @click="choose(g)">
          <td>
            <a href="#" :aria-current="g === chosen" @click.prevent="choose(g)">{{ g.feed }}</a>
          </td>
          <td class="t">{{ g.rule }}</td>
          <td class="t">{{ g.column || 'the row' }}</td>
          <td class="n">{{ count(g.open) }}</td>
          <td class="n">{{ count(g.count) }}</td>
          <td class="share" :title="`of the rejects of the last 30 days`">
            <span class="bar" :style="{ width: `${Math.round(60 * share(g))}px` }" aria-hidden="true" />{{ Math.round(100 * share(g)) }}%
          </td>
          <td class="n">{{ count(g.arrivals) }}</td>
          <td class="t" :title="exact(g.last)">{{ time(g.last) }}</td>
          <td>
            {{ harmless(g.reason) }}<template v-if="g.example">: <span class="mono">{{ harmless(g.example) }}</span></template>
          </td>
        </tr>
      </tbody>
    </GridTable>
  </section>
  <section v-if="chosen" class="panel">
    <div class="row spread head">
      <h2>{{ chosen.feed }}: {{ chosen.column || 'the row' }}, {{ chosen.rule }}</h2>
      <div class="row">
        <span class="quiet">{{ changed.length ? `${changed.length} mended` : 'Click a row to mend it.' }}</span>
        <AskReason
          v-if="changed.length"
          primary
          :label="`Hand in ${changed.length}`"
          title="Hand in mended rows"
          about="They are checked and loaded like others, and keep the file and the line that they came from."
          :act="handIn"
        />
      </div>
    </div>
    <GridTable :name="`rejects-${chosen?.feed ?? ''}`" :csv="asCSV">
      <thead>
        <tr>
          <th>File</th>
          <th class="n">Line</th>
          <th>Why</th>
          <th>The row as it stands in the file</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in rejects?.items" :key="key(r)">
          <td class="path file">
            <router-link :to="`/arrivals/${r.arrival}`">{{ harmless(r.path) }}</router-link>
          </td>
          <td class="n">{{ r.line }}</td>
          <td class="why">{{ harmless(r.reason) }}</td>
          <td class="mono path">
            <router-link v-if="r.mended_in" :to="`/arrivals/${r.mended_in}`">mended in arrival {{ r.mended_in }}</router-link>
            <span v-else-if="r.masked"><RejectRow :reject="r" /> <span class="quiet">(private values are not kept)</span></span>
            <n-input
              v-else-if="mended[key(r)] !== undefined"
              v-model:value="mended[key(r)]"
              size="small"
              type="textarea"
              :autosize="{ minRows: 1, maxRows: 4 }"
              class="mono"
              autofocus
              @keydown.escape="delete mended[key(r)]"
            />
            <button v-else type="button" class="mend" :title="`Mend line ${r.line}`" @click="mended[key(r)] = r.original"><RejectRow :reject="r" /></button>
          </td>
        </tr>
      </tbody>
    </GridTable>
    <p v-if="rejects?.more" class="quiet">There are more; <code>mullein rejects export {{ chosen.feed }}</code> gives all.</p>
  </section>
</template>

<style scoped>
.share {
  white-space: nowrap;
}
.bar {
  display: inline-block;
  height: 8px;
  margin-right: 6px;
  background: var(--bad);
  opacity: 0.6;
  border-radius: 1px;
}
.feed {
  width: 220px;
}
.group {
  cursor: pointer;
}
.group:hover {
  background: var(--soft);
}
.chosen td:first-child {
  box-shadow: inset 3px 0 0 var(--sun);
  padding-left: 10px;
}
.head {
  margin-bottom: 6px;
}
.head h2 {
  margin: 0;
}
.file {
  max-width: 260px;
}
.why {
  max-width: 320px;
}
.mend {
  background: none;
  border: none;
  padding: 0;
  font: inherit;
  color: inherit;
  text-align: left;
  cursor: text;
  overflow-wrap: anywhere;
}
.mend:hover {
  background: var(--soft);
}
</style>
