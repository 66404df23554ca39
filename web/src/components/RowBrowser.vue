<script setup lang="ts">
import { useInfiniteQuery } from '@tanstack/vue-query'
import { NButton, NInput, NSelect } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, got, type Rows } from '../api/client'
import RowTable from './RowTable.vue'

// Rows of a table, by key, and those only that one looks for. What is looked for stands in the address.
const props = defineProps<{ table: string; columns: string[] }>()
const route = useRoute()
const router = useRouter()
const where = computed(() => ([] as unknown[]).concat(route.query.where ?? []).map(String))
const ascending = computed(() => route.query.order === 'ascending')
const go = (query: Record<string, string | string[] | undefined>) => void router.replace({ query: { ...route.query, ...query } })
const { data, error, hasNextPage, fetchNextPage, isFetchingNextPage } = useInfiniteQuery({
  queryKey: ['rows', () => props.table, where, ascending],
  initialPageParam: [] as string[],
  queryFn: ({ pageParam }) =>
    got(api.GET('/api/v1/targets/{table}/rows', { params: { path: { table: props.table }, query: { where: where.value, after: pageParam, ascending: ascending.value, limit: pageParam.length ? 1000 : 50 } } })),
  getNextPageParam: (last: Rows) => (last.more && last.key.length ? last.key.map((k) => String(last.rows.at(-1)?.[last.columns?.indexOf(k) ?? 0])) : undefined),
  placeholderData: (before) => before,
  retry: false,
})
const rows = computed<Rows | undefined>(() => {
  const pages = data.value?.pages
  return pages?.[0] && { ...pages[0], rows: pages.flatMap((p) => p.rows) }
})

const more = () => void (hasNextPage.value && !isFetchingNextPage.value && fetchNextPage())

const ways = ['=', '!=', '<', '<=', '>', '>=', 'contains', 'empty', 'filled'].map((w) => ({ value: w, label: w }))
const column = ref<string>()
const way = ref('=')
const value = ref('')
const bare = computed(() => way.value === 'empty' || way.value === 'filled')
watch(
  () => props.columns,
  (c) => (column.value ??= c[0]),
  { immediate: true },
)
function add() {
  if (!column.value || (!bare.value && !value.value)) return
  go({ where: [...where.value, bare.value ? `${column.value} ${way.value}` : `${column.value} ${way.value} ${value.value}`] })
  value.value = ''
}
const drop = (w: string) => go({ where: where.value.filter((o) => o !== w) })
</script>

<template>
  <div>
    <form class="row asked" @submit.prevent="add">
      <n-select v-model:value="column" size="small" class="column" filterable :options="columns.map((c) => ({ value: c, label: c }))" :input-props="{ 'aria-label': 'Column' }" />
      <n-select v-model:value="way" size="small" class="way" :options="ways" :input-props="{ 'aria-label': 'How' }" />
      <n-input v-if="!bare" v-model:value="value" size="small" class="value" placeholder="Value" :input-props="{ 'aria-label': 'Value' }" />
      <n-button size="small" attr-type="submit">Look for</n-button>
      <n-button size="small" quaternary @click="go({ order: ascending ? undefined : 'ascending' })">{{ ascending ? 'Smallest keys first' : 'Greatest keys first' }}</n-button>
    </form>
    <p v-if="where.length" class="row asked">
      <button v-for="w in where" :key="w" type="button" class="chip" :aria-label="`Without ${w}`" @click="drop(w)">{{ w }} ×</button>
    </p>
    <p v-if="error" role="alert" class="wrong">{{ error.message }}</p>
    <template v-else>
      <RowTable v-if="rows?.rows.length" :rows="rows" @end="more" />
      <p v-else-if="rows" class="nothing">{{ where.length ? 'No row is so.' : 'The table holds no rows yet.' }}</p>
      <n-button v-if="hasNextPage" size="small" class="more" :loading="isFetchingNextPage" @click="more">More rows</n-button>
    </template>
  </div>
</template>

<style scoped>
.asked {
  flex-wrap: wrap;
  margin: 0 0 8px;
}
.column {
  width: 170px;
}
.way {
  width: 106px;
}
.value {
  width: 190px;
}
.wrong {
  color: var(--bad);
}
.more {
  margin-top: 8px;
}
</style>
