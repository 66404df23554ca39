<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { NSelect } from 'naive-ui'
import { computed, ref } from 'vue'
import { api, got } from '../api/client'

// A feed, found by a part of its name, its supplier or its folder.
const props = defineProps<{ due?: boolean; placeholder?: string; clearable?: boolean }>()
const feed = defineModel<string | null>({ required: true })
const text = ref('')
const { data, isFetching } = useQuery({
  queryKey: ['feeds', 'names', text, () => props.due],
  queryFn: () => got(api.GET('/api/v1/feeds', { params: { query: { text: text.value || undefined, due: props.due || undefined, limit: 50 } } })),
  placeholderData: (before) => before,
})
const options = computed(() => {
  const names = data.value?.items.map((f) => f.name) ?? []
  if (feed.value && !names.includes(feed.value) && !text.value) names.unshift(feed.value)
  return names.map((name) => ({ value: name, label: name }))
})
let typing: ReturnType<typeof setTimeout> | undefined
function search(typed: string) {
  clearTimeout(typing)
  typing = setTimeout(() => (text.value = typed), 150)
}
</script>

<template>
  <n-select v-model:value="feed" size="small" filterable remote :clearable="clearable" :placeholder="placeholder ?? 'A feed'" :options="options" :loading="isFetching" :input-props="{ 'aria-label': 'Feed' }" @search="search" @blur="search('')">
    <template v-if="data && data.total > options.length" #action>{{ data.total - options.length }} more; type a part of the name</template>
  </n-select>
</template>
