<script setup lang="ts">
import { NButton, NInput } from 'naive-ui'
import { onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, got } from '../api/client'
import { base } from '../base'
import { signedIn } from '../session'

const route = useRoute()
const router = useRouter()
const name = ref('')
const password = ref('')
const token = ref('')
const byToken = ref(false)
const provider = ref('')
const problem = ref('')
const busy = ref(false)

// Why the provider's sign-in came to nothing; the service's log says more.
const problems: Record<string, string> = {
  'begin-again': 'That took too long, or was begun elsewhere. Try again.',
  refused: 'The provider did not sign you in.',
  provider: 'The provider does not answer as it should; the log of the service says why.',
  'no-role': 'You are in none of the groups that may sign in here.',
  taken: 'Somebody else has your name here; ask an owner.',
}

async function signIn(body: { code?: string; token?: string; name?: string; password?: string }) {
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

onMounted(async () => {
  problem.value = problems[String(route.query.problem ?? '')] ?? ''
  const code = route.hash.slice(1)
  if (code) {
    history.replaceState(history.state, '', `${base}/sign-in`) // the code is good once and has no place in the history
    return signIn({ code })
  }
  const { data } = await api.GET('/api/v1/session/ways').catch(() => ({ data: undefined }))
  provider.value = data?.openid ?? ''
})
</script>

<template>
  <div class="panel">
    <div class="row"><img :src="`${base}/icon.svg`" alt="" width="32" height="32" /><h1>Mullein</h1></div>
    <p v-if="problem" class="problem" role="alert">{{ problem }}</p>
    <n-button v-if="provider" tag="a" type="primary" block :href="`${base}/sign-in/openid?to=${encodeURIComponent(String(route.query.to ?? '/today'))}`">Sign in with {{ provider }}</n-button>
    <form v-if="byToken" @submit.prevent="signIn({ token })">
      <n-input v-model:value="token" type="password" placeholder="Token" autofocus :input-props="{ 'aria-label': 'Token', autocomplete: 'current-password' }" />
      <n-button type="primary" attr-type="submit" :loading="busy" :disabled="!token">Sign in</n-button>
    </form>
    <form v-else @submit.prevent="signIn({ name, password })">
      <n-input v-model:value="name" placeholder="Name" autofocus :input-props="{ 'aria-label': 'Name', autocomplete: 'username', autocapitalize: 'none' }" />
      <n-input v-model:value="password" type="password" placeholder="Password" :input-props="{ 'aria-label': 'Password', autocomplete: 'current-password' }" />
      <n-button :type="provider ? 'default' : 'primary'" attr-type="submit" :loading="busy" :disabled="!name || !password">Sign in</n-button>
    </form>
    <p class="quiet">
      <template v-if="byToken">The owner's token is in the file <code>owner.token</code> of the service's home folder. <a href="#" @click.prevent="byToken = false">Sign in with a name</a></template>
      <template v-else>Without a name here, open the link that the service printed when it started, or <a href="#" @click.prevent="byToken = true">sign in with a token</a>.</template>
    </p>
  </div>
</template>

<style scoped>
.panel {
  max-width: 420px;
  margin: 12vh auto 0;
  padding: 22px 26px;
}
.row {
  margin-bottom: 14px;
}
form {
  display: grid;
  gap: 12px;
  margin-top: 12px;
}
p a {
  text-decoration: underline;
}
.problem {
  color: var(--bad);
  margin: 0 0 10px;
}
</style>
