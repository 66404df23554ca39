<script setup lang="ts">
import { NButton, NInput, NModal, useMessage } from 'naive-ui'
import { ref } from 'vue'

// A button for a decision. It asks for the reason, which is kept.
const props = defineProps<{ label: string; title: string; about?: string; act: (because: string) => Promise<unknown>; primary?: boolean }>()
const message = useMessage()
const open = ref(false)
const because = ref('')
const busy = ref(false)

async function go() {
  if (busy.value || !because.value.trim()) return // it is done once, however often one clicks
  busy.value = true
  try {
    await props.act(because.value.trim())
    open.value = false
    because.value = ''
  } catch (e) {
    message.error((e as Error).message, { duration: 8000 })
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <n-button size="small" :type="primary ? 'primary' : 'default'" @click="open = true">{{ label }}</n-button>
  <n-modal v-model:show="open" preset="card" :title="title" style="width: 460px" size="small">
    <p v-if="about" class="about">{{ about }}</p>
    <n-input v-model:value="because" autofocus placeholder="Why? The reason is kept with who and when." maxlength="1000" @keydown.enter="because.trim() && go()" />
    <template #footer>
      <div class="row">
        <n-button type="primary" size="small" :disabled="!because.trim()" :loading="busy" @click="go">{{ label }}</n-button>
        <n-button size="small" @click="open = false">Leave it</n-button>
      </div>
    </template>
  </n-modal>
</template>

<style scoped>
.about {
  margin: 0 0 10px;
}
</style>
