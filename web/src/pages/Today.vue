<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { NRadioButton, NRadioGroup } from 'naive-ui'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, got } from '../api/client'
import DayRuler from '../components/DayRuler.vue'
import SlotTable from '../components/SlotTable.vue'
import StateMark from '../components/StateMark.vue'
import { count, exact, since, time } from '../format'
import { loads } from '../live'

const route = useRoute()
const router = useRouter()
const spans = [24, 6, 1]
const hours = computed({
  get: () => spans.find((h) => String(h) === route.query.hours) ?? 24,
  set: (h) => void router.replace({ query: h === 24 ? {} : { hours: h } }),
})
const { data: day, error } = useQuery({
  queryKey: ['day', hours],
  queryFn: () => got(api.GET('/api/v1/day', { params: { query: { hours: hours.value } } })),
  refetchInterval: 30_000,
  placeholderData: (before) => before, // the ruler stays while another span is asked for
})
const { data: status } = useQuery({ queryKey: ['status'], queryFn: () => got(api.GET('/api/v1/status')) })
// A slot whose file was refused is told by its arrival.
const wrong = computed(() => day.value?.wrong.filter((s) => s.state !== 'refused') ?? [])
const stopped = computed(() => status.value?.feeds.filter((f) => f.problem) ?? [])
const waiting = computed(() => status.value?.feeds.filter((f) => f.counts?.waiting) ?? [])
const share = (l: { bytes: number; size: number }) => (l.size ? Math.min(100, Math.round((100 * l.bytes) / l.size)) : 100)
</script>

<template>
  <p v-if="error" class="panel" role="alert">{{ error.message }}</p>
  <template v-if="day">
    <section class="panel">
      <div class="row spread">
        <h1>Today</h1>
        <n-radio-group v-model:value="hours" size="small" name="hours">
          <n-radio-button v-for="h in spans" :key="h" :value="h" :label="h === 1 ? '1 hour' : `${h} hours`" />
        </n-radio-group>
      </div>
      <DayRuler v-if="day.feeds.length" :day="day" :hours="hours" />
      <p v-else class="nothing">No feeds yet. <code>mullein feed put FILE</code> creates one, and its files appear here.</p>
    </section>

    <section class="panel">
      <h2>Needs a person</h2>
      <p v-if="!day.needs.length && !stopped.length && !wrong.length" class="nothing">Nothing does. All that came in the last 24 hours is loaded, or on its way.</p>
      <SlotTable v-if="wrong.length" :slots="wrong" />
      <table v-if="day.needs.length || stopped.length" class="grid">
        <tbody>
          <tr v-for="f in stopped" :key="f.name">
            <td class="t"><StateMark state="failed" bare /> not working</td>
            <td>
              <router-link :to="`/feeds/${f.name}`">{{ f.name }}</router-link>
            </td>
            <td colspan="2">{{ f.problem }}</td>
          </tr>
          <tr v-for="a in day.needs" :key="a.id">
            <td><StateMark :state="a.state" /></td>
            <td>
              <router-link :to="`/feeds/${a.feed}`">{{ a.feed }}</router-link>
            </td>
            <td class="path">
              <router-link :to="`/arrivals/${a.id}`">{{ a.path }}</router-link>
              <div class="quiet">{{ a.reason }}</div>
            </td>
            <td class="t quiet" :title="exact(a.finished_at)">{{ time(a.finished_at) }}</td>
          </tr>
        </tbody>
      </table>
    </section>

    <section class="panel">
      <h2>Now</h2>
      <p v-if="!loads.length && !waiting.length" class="nothing">Nothing is waiting and nothing is being loaded.</p>
      <table v-else class="grid">
        <tbody>
          <tr v-for="l in loads" :key="l.arrival">
            <td><StateMark state="loading" /></td>
            <td>{{ l.feed }}</td>
            <td class="path">
              <router-link :to="`/arrivals/${l.arrival}`">{{ l.path }}</router-link>
              <span v-if="l.files > 1" class="quiet"> and {{ l.files - 1 }} more</span>
            </td>
            <td class="n">{{ l.step }}, {{ share(l) }}%, {{ count(l.rows) }} rows</td>
          </tr>
          <tr v-for="f in waiting" :key="f.name">
            <td><StateMark state="ready" bare /> waiting</td>
            <td>
              <router-link :to="`/feeds/${f.name}`">{{ f.name }}</router-link>
            </td>
            <td colspan="2">
              <template v-if="f.waits">{{ f.waits }}; </template>{{ count(f.counts?.waiting ?? 0) }} arrivals<template v-if="f.counts?.oldest_waiting_at">, the oldest for {{ since(f.counts.oldest_waiting_at) }}</template>
            </td>
          </tr>
        </tbody>
      </table>
    </section>
  </template>
</template>
