<script setup lang="ts">
import { NButton } from 'naive-ui'
import { ref } from 'vue'
import { csvOf } from '../csv'

// A button that saves the table of its section as CSV, as it is seen.
const props = defineProps<{ name: string }>()
const at = ref<InstanceType<typeof NButton>>()
function save() {
  const table = (at.value?.$el as HTMLElement | undefined)?.closest('section, .n-tab-pane')?.querySelector<HTMLTableElement>('table.grid')
  if (!table) return
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([csvOf(table)], { type: 'text/csv' }))
  link.download = `${props.name}.csv`
  link.click()
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000)
}
</script>

<template>
  <n-button ref="at" size="small" quaternary :title="`What is seen of it, as ${name}.csv`" @click="save">Save as CSV</n-button>
</template>
