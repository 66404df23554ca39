<script setup lang="ts">
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { count } from '../format'
import { mild } from '../problems'
import { problemsQuery, problemsShown } from '../today'
import ProblemRow from './ProblemRow.vue'

// What needs a person, as one where it has one cause, the newest first; and after it what is worth a look.
const props = defineProps<{ mine: boolean }>()
const { data, error } = useQuery(computed(() => ({ ...problemsQuery(props.mine), placeholderData: keepPreviousData })))
const few = 5
const all = ref(false)
const needs = computed(() => (data.value?.items ?? []).filter((p) => !mild(p)))
const looks = computed(() => (data.value?.items ?? []).filter(mild))
const folded = computed(() => Math.max(0, needs.value.length - few) + looks.value.length)
const more = computed(() => [needs.value.length > few ? `${count(needs.value.length - few)} more` : '', looks.value.length ? `${count(looks.value.length)} worth a look` : ''].filter(Boolean).join(', '))
</script>

<template>
  <h2>Needs a person</h2>
  <p v-if="error" role="alert">{{ error.message }}</p>
  <p v-if="data && !needs.length" class="nothing">Nothing does. All that came in the last days is loaded, or on its way.</p>
  <ProblemRow v-for="p in all ? needs : needs.slice(0, few)" :key="p.id" :problem="p" />
  <template v-if="all && looks.length">
    <h2 class="looks">Worth a look</h2>
    <ProblemRow v-for="p in looks" :key="p.id" :problem="p" />
  </template>
  <button v-if="folded" type="button" class="fold" :aria-expanded="all" @click="all = !all">{{ all ? 'Show fewer' : `Show ${more}` }}</button>
  <router-link v-if="data?.next" to="/notices" class="quiet"> and more than {{ problemsShown }}: see all</router-link>
</template>

<style scoped>
.looks {
  margin-top: 12px;
}
.fold {
  margin-top: 6px;
  padding: 0;
  border: 0;
  background: none;
  color: var(--felt);
  font: inherit;
  cursor: pointer;
}
</style>
