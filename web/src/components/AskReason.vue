<script setup lang="ts">
import { useMessage } from 'naive-ui'
import { nextTick, ref } from 'vue'

// A button for a decision. It asks for the reason, which is kept.
const props = defineProps<{ label: string; title: string; about?: string; act: (because: string) => Promise<unknown>; primary?: boolean }>()
const message = useMessage()
const box = ref<HTMLDialogElement>()
const open = ref(false)
const because = ref('')
const busy = ref(false)

async function ask() {
  open.value = true
  await nextTick()
  box.value?.showModal()
}
async function go() {
  if (busy.value || !because.value.trim()) return // it is done once, however often one clicks
  busy.value = true
  try {
    await props.act(because.value.trim())
    box.value?.close()
    because.value = ''
  } catch (e) {
    message.error((e as Error).message, { duration: 8000 })
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <button type="button" class="button" :class="{ primary }" @click="ask">{{ label }}</button>
  <dialog v-if="open" ref="box" class="dialog" :aria-label="title" @close="open = false" @click.self="box?.close()">
    <form @submit.prevent="go">
      <h2>{{ title }}</h2>
      <p v-if="about">{{ about }}</p>
      <input v-model="because" class="field" autofocus aria-label="Why?" placeholder="Why? The reason is kept with who and when." maxlength="1000" autocomplete="off" />
      <div class="row">
        <button class="button primary" :disabled="!because.trim() || busy" :aria-busy="busy">{{ label }}</button>
        <button type="button" class="button" @click="box?.close()">Leave it</button>
      </div>
    </form>
  </dialog>
</template>

<style scoped>
.dialog {
  width: min(460px, calc(100vw - 24px));
}
form {
  padding: 16px 18px;
  display: flex;
  flex-direction: column;
  gap: 12px;
  white-space: normal;
  text-align: left;
  font-weight: normal;
}
h2,
p {
  margin: 0;
  overflow-wrap: anywhere;
}
</style>
