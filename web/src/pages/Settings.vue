<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { NCheckbox, NInput } from 'naive-ui'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, got } from '../api/client'
import GridTable from '../components/GridTable.vue'
import { count, harmless } from '../format'

// What holds for the service, and where each setting comes from. They are changed in their file, which is read again by itself.
const route = useRoute()
const router = useRouter()
const filter = (name: string) => computed({ get: () => String(route.query[name] ?? ''), set: (v: string) => void router.replace({ query: { ...route.query, [name]: v || undefined } }) })
const text = filter('text')
const said = filter('said')
const { data, error } = useQuery({ queryKey: ['settings'], queryFn: () => got(api.GET('/api/v1/settings')), refetchInterval: 10_000, retry: false })
const settings = computed(() =>
  (data.value?.items ?? []).filter((s) => (!said.value || s.source !== 'default') && `${s.name} ${s.value} ${s.about}`.toLowerCase().includes(text.value.toLowerCase())),
)
const from = (source: string) => source.replace(/^.*\/([^/]+:\d+)$/, '$1')
</script>

<template>
  <section class="panel">
    <GridTable name="settings">
      <template #head>
        <div class="row wrap">
          <h1>Settings</h1>
          <n-input v-model:value="text" size="small" clearable class="text" placeholder="Part of a name or of what it says" :input-props="{ 'aria-label': 'Find settings' }" />
          <n-checkbox :checked="!!said" @update:checked="(on: boolean) => (said = on ? 'yes' : '')">only what somebody has said</n-checkbox>
          <span v-if="data" class="quiet">{{ count(settings.length) }} of {{ count(data.items.length) }}</span>
        </div>
      </template>
      <thead>
        <tr><th>Setting</th><th>Value</th><th>From</th><th>What it is</th></tr>
      </thead>
      <tbody>
        <tr v-for="s in settings" :key="s.name">
          <td class="mono t">{{ s.name }}</td>
          <td class="mono path" :class="{ nil: !s.value }">{{ harmless(s.value) || '–' }}</td>
          <td class="t" :class="{ quiet: s.source === 'default' }" :title="s.source">{{ harmless(from(s.source)) }}</td>
          <td>{{ s.about }}</td>
        </tr>
      </tbody>
    </GridTable>
    <p v-if="error" role="alert">{{ error.message }}</p>
    <p v-if="data?.problem" class="bad" role="alert">What the file says now is not taken, and what is above holds: {{ harmless(data.problem) }}</p>
    <p class="quiet">They are changed in <code>mullein.yaml</code> in the home folder of the service, or by its environment. Outlets, who is told, connections, places, queues, sign-in, the address and prices are taken up while it runs; all else when it starts.</p>
  </section>
</template>

<style scoped>
.wrap {
  flex-wrap: wrap;
}
.text {
  width: 260px;
}
.bad {
  color: var(--bad);
}
</style>
