<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { NSelect } from 'naive-ui'
import { computed, onBeforeUnmount, onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, got } from '../api/client'
import { place, type ChainNode, type Placed } from '../chains'
import { count, time } from '../format'

// What comes after what: feeds fill tables, rollups and extracts read them, feeds take what extracts write. All of it,
// or what is around one of them; as a drawing, or where there is little room as a list.
const route = useRoute()
const router = useRouter()
const of = computed({ get: () => (route.query.of ? String(route.query.of) : null), set: (name: string | null) => void router.replace({ query: name ? { of: name } : {} }) })
const { data, error } = useQuery({
  queryKey: ['chains', of],
  queryFn: () => got(api.GET('/api/v1/chains', { params: { query: { of: of.value ?? undefined } } })),
  placeholderData: (before) => before,
})
const { data: whole } = useQuery({ queryKey: ['chains', null], queryFn: () => got(api.GET('/api/v1/chains', {})) })
const names = computed(() => (whole.value?.nodes ?? []).map((n) => ({ value: n.name, label: `${n.name}, ${n.kind}` })))

const wide = 236
const gap = 74
const high = 38
const step = 50
const nodes = computed<Placed[]>(() => (data.value ? place(data.value) : []))
const byID = computed(() => new Map(nodes.value.map((n) => [n.id, n])))
const x = (n: Placed) => n.layer * (wide + gap)
const y = (n: Placed) => n.line * step + 4
const width = computed(() => Math.max(0, ...nodes.value.map((n) => x(n) + wide)) + 8)
const height = computed(() => Math.max(0, ...nodes.value.map((n) => y(n) + high)) + 8)
const lines = computed(() =>
  (data.value?.links ?? []).flatMap((l) => {
    const a = byID.value.get(l.from)
    const b = byID.value.get(l.to)
    if (!a || !b) return []
    const [x1, y1, x2, y2] = [x(a) + wide, y(a) + high / 2, x(b), y(b) + high / 2]
    const bend = Math.max(24, (x2 - x1) / 2)
    return [{ key: `${l.from} ${l.to} ${l.why}`, d: `M${x1} ${y1}C${x1 + bend} ${y1} ${x2 - bend} ${y2} ${x2 - 6} ${y2}`, why: l.why, end: `${x2 - 7},${y2 - 4} ${x2},${y2} ${x2 - 7},${y2 + 4}` }]
  }),
)
const short = (name: string) => (name.length > 30 ? `${name.slice(0, 29)}…` : name)
function says(n: ChainNode): string {
  if (n.state === 'failed') return 'not working'
  if (n.state === 'paused') return 'paused'
  if (n.state === 'needs') return 'needs a person'
  if (n.state === 'waiting') return n.waiting ? `${count(n.waiting)} wait` : 'at work'
  if (n.loaded_at) return `${n.kind === 'rollup' ? 'computed' : 'loaded'} ${time(n.loaded_at)}`
  return n.kind === 'feed' ? 'nothing loaded yet' : ''
}
const page = (n: ChainNode) => (n.kind === 'feed' ? `/feeds/${n.name}` : n.kind === 'extract' ? `/extracts/${n.name}` : n.name.includes('{') || n.name.includes(': ') ? `/chains?of=${encodeURIComponent(n.name)}` : `/targets/${n.name}`)

// A drawing needs room.
const box = ref<HTMLElement>()
const room = ref(1000)
const resize = new ResizeObserver(() => (room.value = box.value?.clientWidth ?? 1000))
onMounted(() => box.value && resize.observe(box.value))
onBeforeUnmount(() => resize.disconnect())
const narrow = computed(() => room.value < 600)
const after = (n: Placed) => (data.value?.links ?? []).filter((l) => l.from === n.id).map((l) => byID.value.get(l.to)?.name)
const inOrder = computed(() => [...nodes.value].sort((a, b) => a.chain - b.chain || a.layer - b.layer || a.line - b.line))
</script>

<template>
  <section class="panel">
    <div class="row spread">
      <h1>Chains</h1>
      <n-select v-model:value="of" size="small" class="pick" filterable clearable tag :options="names" placeholder="Around a feed or a table" :input-props="{ 'aria-label': 'Around a feed or a table' }" />
    </div>
    <p v-if="error" role="alert">{{ error.message }}</p>
    <p v-if="data && !nodes.length" class="nothing">No feed yet. A feed fills a table; a rollup and an extract read it; other feeds may come after it.</p>
    <p v-if="data?.more" class="quiet">{{ count(data.more) }} more are not drawn. Choose one to see what is around it.</p>
    <div ref="box" class="scroll" :tabindex="nodes.length && !narrow ? 0 : undefined" role="group" aria-label="What comes after what">
      <ul v-if="narrow" class="list">
        <li v-for="n in inOrder" :key="n.id">
          <router-link :to="page(n)">{{ n.name }}</router-link> <span class="quiet">{{ n.kind }}<template v-if="says(n)">, {{ says(n) }}</template></span>
          <div v-if="after(n).length" class="quiet">before {{ after(n).join(', ') }}</div>
        </li>
      </ul>
      <svg v-else :width="width" :height="height" role="group" aria-label="Nodes">
        <g v-for="l in lines" :key="l.key">
          <path :d="l.d" class="link" :class="l.why" />
          <polygon :points="l.end" class="head" />
        </g>
        <router-link v-for="n in nodes" :key="n.id" :to="page(n)">
          <title>{{ n.name }}{{ n.says ? `: ${n.says}` : '' }}</title>
          <rect :x="x(n) + 1" :y="y(n)" :width="wide - 2" :height="high" :rx="n.kind === 'feed' || n.kind === 'extract' ? 18 : 3" class="node" :class="[n.kind, n.state, { chosen: n.name === of }]" />
          <text :x="x(n) + 14" :y="y(n) + 16" class="name">{{ short(n.name) }}</text>
          <text :x="x(n) + 14" :y="y(n) + 31" class="says" :class="n.state">{{ n.kind }}{{ says(n) ? `, ${says(n)}` : '' }}</text>
        </router-link>
      </svg>
    </div>
  </section>
</template>

<style scoped>
.pick {
  max-width: 320px;
}
.scroll {
  margin-top: 10px;
}
svg {
  display: block;
}
.node {
  fill: var(--paper);
  stroke: var(--felt-soft);
  stroke-width: 1.4;
}
.node.table,
.node.rollup {
  fill: var(--soft);
  stroke: var(--line);
}
.node.rollup {
  stroke-dasharray: 4 3;
  stroke: var(--felt-soft);
}
.node.failed,
.node.needs {
  stroke: var(--bad);
  stroke-width: 2;
}
.node.waiting {
  stroke: var(--cool);
  stroke-width: 2;
}
.node.paused {
  stroke: var(--faint);
  stroke-dasharray: 2 3;
}
.node.chosen {
  stroke: var(--sun);
  stroke-width: 3;
}
a:hover .node,
a:focus-visible .node {
  stroke: var(--sun);
}
a:focus-visible {
  outline: none;
}
.name {
  fill: var(--ink);
  font-size: 12.5px;
}
.says {
  fill: var(--quiet);
  font-size: 11px;
}
.says.failed,
.says.needs {
  fill: var(--bad);
}
.link {
  fill: none;
  stroke: var(--faint);
  stroke-width: 1.3;
}
.link.after {
  stroke-dasharray: 5 4;
}
.head {
  fill: var(--faint);
}
.list {
  margin: 0;
  padding: 0;
  list-style: none;
}
.list li {
  padding: 5px 0;
  border-bottom: 1px solid var(--soft);
}
</style>
