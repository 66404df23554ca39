<script setup lang="ts">
import { NButton, NInput } from 'naive-ui'
import { onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, got } from '../api/client'
import { signedIn } from '../session'

const route = useRoute()
const router = useRouter()
const token = ref('')
const problem = ref('')
const busy = ref(false)

async function signIn(body: { code?: string; token?: string }) {
  busy.value = true
  problem.value = ''
  try {
    signedIn.value = await got(api.POST('/api/v1/session', { body }))
    const to = String(route.query.to ?? '/today')
    await router.replace(to.startsWith('/') && !to.startsWith('//') ? to : '/today')
  } catch (e) {
    problem.value = (e as Error).message
  } finally {
    busy.value = false
  }
}

onMounted(() => {
  const code = route.hash.slice(1)
  if (!code) return
  history.replaceState(history.state, '', '/sign-in') // the code is good once and has no place in the history
  void signIn({ code })
})
</script>

<template>
  <div class="panel">
    <div class="row"><img src="/icon.svg" alt="" width="32" height="32" /><h1>Mullein</h1></div>
    <p class="quiet">Open the link that the service printed when it started, or sign in with a token. The owner's is in the file <code>owner.token</code> of the service's home folder.</p>
    <form @submit.prevent="signIn({ token })">
      <n-input v-model:value="token" type="password" placeholder="Token" autofocus :input-props="{ 'aria-label': 'Token', autocomplete: 'current-password' }" />
      <p v-if="problem" class="problem" role="alert">{{ problem }}</p>
      <n-button type="primary" attr-type="submit" :loading="busy" :disabled="!token">Sign in</n-button>
    </form>
  </div>
</template>

<style scoped>
.panel {
  max-width: 420px;
  margin: 12vh auto 0;
  padding: 22px 26px;
}
form {
  display: grid;
  gap: 12px;
}
.problem {
  color: var(--bad);
  margin: 0;
}
</style>
