<script setup lang="ts">
import { useMessage } from 'naive-ui'
import { computed, ref } from 'vue'
import { api, got, type Problem } from '../api/client'
import { exact, harmless, time } from '../format'
import { cureOf, markOf, pageOf, summary, whose, words, wordsOf } from '../problems'
import AskReason from './AskReason.vue'
import DueTime from './DueTime.vue'
import StateMark from './StateMark.vue'

// A problem: whose it is, how much belongs to it and since when, what may be done about all of it at once, and the
// first of its parts, each with the page that says more.
const props = defineProps<{ problem: Problem }>()
const message = useMessage()
const few = 3
const all = ref(false)
// Those that a file came close to stand first.
const parts = computed(() => props.problem.parts.filter((t) => !t.over_at).sort((a, b) => closest(a) - closest(b)))
function closest(t: Problem['parts'][number]): number {
  const near = t.due?.near.map((n) => n.distance) ?? []
  return near.length ? Math.min(...near) : 1e9
}
// A file that comes close to several slots is shown at the nearest.
const nearest = computed(() => {
  const out = new Map<string, number>()
  for (const t of parts.value) for (const n of t.due?.near ?? []) out.set(`${t.feed} ${n.path}`, Math.min(n.distance, out.get(`${t.feed} ${n.path}`) ?? Infinity))
  return out
})
const nearOf = (t: Problem['parts'][number]) => (t.due?.near ?? []).filter((n) => n.distance === nearest.value.get(`${t.feed} ${n.path}`))
// What the feed file has said of a missing slot, once where it is the same of all.
const say = computed(() => {
  const all = new Set(parts.value.map((t) => t.due?.say ?? ''))
  return all.size === 1 ? [...all][0] : ''
})
const shown = computed(() => (all.value ? parts.value : parts.value.slice(0, few)))
const of = computed(() => whose(props.problem))
const cures = computed(() => props.problem.cures.map((c) => ({ ...c, ...cureOf(c) })))
const cure = (verb: Problem['cures'][number]['verb']) => async (because: string) => {
  const did = await got(api.POST('/api/v1/problems/{id}/cure', { params: { path: { id: props.problem.id } }, body: { verb, because } }))
  if (did.left.length) message.warning(`Not done for ${did.left.length}: ${did.left[0]}`, { duration: 10_000 })
  else message.success(did.done ? `Done for ${did.done}.` : 'Nothing was left to do: somebody was faster.')
}
const accept = (slot: number, path: string) => (because: string) => got(api.POST('/api/v1/slots/{id}/accept', { params: { path: { id: slot } }, body: { path, because } }))
// Of a feed that does not work, the cure is its file, its place or its table; the service tries on by itself.
const change = computed(() => ['stopped', 'table', 'landing', 'warning'].includes(props.problem.kind) && parts.value.length === 1 && parts.value[0]?.feed)
</script>

<template>
  <article class="problem" :aria-label="`${words[problem.kind] ?? problem.kind}: ${of.name}`">
    <div class="row spread">
      <div class="row head">
        <StateMark :state="markOf(problem.kind)" bare />
        <strong>{{ words[problem.kind] ?? problem.kind }}</strong>
        <router-link v-if="of.to" :to="of.to">{{ harmless(of.name) }}</router-link>
        <span v-else>{{ harmless(of.name) }}</span>
        <span class="quiet" :title="exact(problem.began_at)">{{ summary(problem) }}</span>
      </div>
      <div class="row">
        <AskReason v-for="(c, i) in cures" :key="c.verb" :label="c.label" :title="`${c.label}: ${harmless(of.name)}`" :about="c.about" :act="cure(c.verb)" :primary="i === 0 && c.verb === 'accept'" />
        <router-link v-if="change" :to="`/feeds/${change}/edit`" class="button">Change the feed</router-link>
      </div>
    </div>
    <div v-if="say" class="say once">{{ say }}</div>
    <ul>
      <li v-for="t in shown" :key="`${t.feed} ${t.arrival} ${t.slot}`">
        <template v-if="t.due">
          <router-link :to="pageOf(problem, t)">{{ t.feed }}</router-link> due <DueTime :slot-view="t.due" />, expected <span class="mono">{{ harmless(t.due.expected) }}</span>
          <div v-if="t.due.say && !say" class="say">{{ t.due.say }}</div>
          <div v-for="n in nearOf(t)" :key="n.path" class="row near">
            <span>came close: <span class="mono">{{ harmless(n.path) }}</span> <span class="quiet">({{ harmless(n.why) }})</span></span>
            <AskReason label="Take it" :title="`Take ${n.path} for this slot`" about="It is loaded as if its name were right." :act="accept(t.slot, n.path)" />
          </div>
        </template>
        <template v-else>
          <router-link v-if="t.feed" :to="pageOf(problem, t)">{{ problem.feeds > 1 || !t.arrival ? t.feed : time(t.since) }}</router-link> {{ harmless(wordsOf(problem, t)) }}
        </template>
      </li>
    </ul>
    <button v-if="parts.length > few" type="button" class="fold" :aria-expanded="all" @click="all = !all">{{ all ? 'Show fewer' : `Show ${parts.length - few} more` }}</button>
    <span v-if="all && problem.lasting > parts.length" class="quiet"> and {{ problem.lasting - parts.length }} more</span>
  </article>
</template>

<style scoped>
.problem {
  padding: 7px 0;
  border-top: 1px solid var(--soft);
}
.problem:first-of-type {
  border-top: none;
}
.spread {
  align-items: flex-start;
}
.head {
  flex-wrap: wrap;
  gap: 2px 8px;
  padding-top: 3px;
}
ul {
  margin: 2px 0 0 22px;
  padding: 0;
  list-style: none;
}
li {
  padding: 1px 0;
  overflow-wrap: anywhere;
}
.say {
  font-weight: 600;
}
.once {
  margin-left: 22px;
}
.near {
  margin: 3px 0;
}
.fold {
  margin-left: 22px;
  padding: 0;
  border: 0;
  background: none;
  color: var(--felt);
  font: inherit;
  cursor: pointer;
}
@media (max-width: 640px) {
  ul,
  .once,
  .fold {
    margin-left: 0;
  }
  .head + .row {
    margin-bottom: 6px;
  }
}
</style>
