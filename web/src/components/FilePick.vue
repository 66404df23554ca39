<script setup lang="ts">
import { NButton } from 'naive-ui'
import { ref } from 'vue'

// A file of the person's own machine: a button, and the name of what was chosen.
const props = defineProps<{ name: string; accept?: string; words: string }>()
const file = defineModel<File>()
const input = ref<HTMLInputElement>()
const pick = () => (file.value = input.value?.files?.[0])
function clear() {
  if (input.value) input.value.value = ''
  file.value = undefined
}
</script>

<template>
  <span class="pick">
    <input ref="input" type="file" :name="props.name" :accept="props.accept" :aria-label="props.words" tabindex="-1" @change="pick" />
    <n-button size="small" @click="input?.click()">{{ props.words }}</n-button>
    <span v-if="file" class="mono">{{ file.name }} <button type="button" :title="`Without ${file.name}`" @click="clear">×</button></span>
  </span>
</template>

<style scoped>
.pick {
  display: inline-flex;
  align-items: center;
  gap: 8px;
}
input {
  position: absolute;
  width: 1px;
  height: 1px;
  opacity: 0;
  pointer-events: none;
}
button {
  border: 0;
  background: none;
  color: var(--quiet);
  cursor: pointer;
  font: inherit;
}
</style>
