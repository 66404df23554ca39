<script setup lang="ts">
import { computed, nextTick, ref } from 'vue'
import type { Proposal } from '../proposals'

// What a feed file might say besides. Each is taken or left, by a click or by a key: T takes, L leaves, arrows go up
// and down.
const props = defineProps<{ proposals: Proposal[] }>()
const emit = defineEmits<{ take: [Proposal] }>()
const left = ref(new Set<string>())
const open = computed(() => props.proposals.filter((p) => !left.value.has(p.id)))
const list = ref<HTMLElement>()

async function focus(at: number) {
  await nextTick()
  const rows = list.value?.querySelectorAll<HTMLElement>('button.take')
  rows?.[Math.max(0, Math.min(at, rows.length - 1))]?.focus()
}
function take(p: Proposal, at: number) {
  emit('take', p)
  void focus(at)
}
function leave(p: Proposal, at: number) {
  left.value = new Set(left.value).add(p.id)
  void focus(at)
}
function key(e: KeyboardEvent, p: Proposal, at: number) {
  if (e.ctrlKey || e.metaKey || e.altKey) return
  const does = { t: () => take(p, at), l: () => leave(p, at), ArrowDown: () => void focus(at + 1), ArrowUp: () => void focus(at - 1) }[e.key]
  if (!does) return
  e.preventDefault()
  does()
}
</script>

<template>
  <section v-if="open.length || left.size" aria-label="Proposals">
    <h2>It might say besides <small class="quiet">T takes, L leaves</small></h2>
    <p v-if="!open.length" class="nothing">All were left. <button type="button" class="again" @click="left = new Set()">Show them again</button></p>
    <ul ref="list">
      <li v-for="(p, i) in open" :key="p.id" @keydown="key($event, p, i)">
        <span class="what">
          {{ p.what }} <span class="quiet">because {{ p.why }}</span>
        </span>
        <span class="keys">
          <button type="button" class="take" :aria-label="`Take: ${p.what}`" @click="take(p, i)"><u>T</u>ake</button>
          <button type="button" :aria-label="`Leave: ${p.what}`" @click="leave(p, i)"><u>L</u>eave</button>
        </span>
      </li>
    </ul>
  </section>
</template>

<style scoped>
section {
  margin-top: 12px;
}
small {
  font-weight: 400;
}
ul {
  margin: 0;
  padding: 0;
  list-style: none;
}
li {
  display: flex;
  justify-content: space-between;
  gap: 10px;
  padding: 3px 4px;
  border-top: 1px solid var(--soft);
}
li:focus-within {
  background: var(--soft);
}
.what {
  overflow-wrap: anywhere;
}
.keys {
  display: flex;
  gap: 6px;
  flex: none;
  align-items: flex-start;
}
button {
  border: 1px solid var(--line);
  border-radius: 3px;
  background: var(--paper);
  color: var(--ink);
  font: inherit;
  padding: 1px 9px;
  cursor: pointer;
}
.again {
  border: 0;
  padding: 0;
  color: var(--felt);
  background: none;
}
</style>
