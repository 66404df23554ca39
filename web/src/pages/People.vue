<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { NButton, NCheckbox, NInput, NSelect, useMessage } from 'naive-ui'
import { computed, ref } from 'vue'
import { api, got } from '../api/client'
import { count, exact, harmless, time } from '../format'
import { queries } from '../live'
import { signedIn } from '../session'
import GridTable from '../components/GridTable.vue'

// Who may do what here, and what was done. Those who may not know it see themselves only.
const message = useMessage()
const owner = computed(() => signedIn.value?.role === 'own')
const { data: users, error } = useQuery({ queryKey: ['users'], enabled: owner, staleTime: 0, queryFn: () => got(api.GET('/api/v1/users')) })
const { data: tokens } = useQuery({ queryKey: ['tokens'], enabled: owner, staleTime: 0, queryFn: () => got(api.GET('/api/v1/tokens')) })
const { data: acts } = useQuery({ queryKey: ['acts'], enabled: owner, staleTime: 0, refetchInterval: 30_000, queryFn: () => got(api.GET('/api/v1/acts', { params: { query: { limit: 100 } } })) })

const roles = [
  { value: 'look' as const, label: 'look: see' },
  { value: 'operate' as const, label: 'operate: run, decide, recall too' },
  { value: 'own' as const, label: 'own: put feeds, and say who may, too' },
]
type Role = (typeof roles)[number]['value']
const fresh = () => ({ name: '', role: 'look' as Role, feeds: '', blind: false, password: '' })
const wanted = ref(fresh())
const secret = ref('')
const change = ref({ old: '', now: '' })

async function act(what: string, done: string, call: () => Promise<unknown>) {
  try {
    await call()
    message.success(done)
  } catch (e) {
    message.error(`${what}: ${(e as Error).message}`, { duration: 8000 })
  }
  for (const key of ['users', 'tokens', 'acts']) void queries.invalidateQueries({ queryKey: [key] })
}
const feeds = () => wanted.value.feeds.split(/[\s,]+/).filter(Boolean)
const putUser = () => {
  const { name, role, blind, password } = wanted.value
  return act('Not kept', `${name} may ${role}.`, async () => {
    await got(api.PUT('/api/v1/users/{user}', { params: { path: { user: name } }, body: { role, blind, feeds: feeds(), password: password || undefined } }))
    wanted.value = fresh()
  })
}
const newToken = () => {
  const { name, role, blind } = wanted.value
  return act('Not made', 'The token stands below, this once.', async () => {
    secret.value = (await got(api.POST('/api/v1/tokens', { body: { name, role, blind, feeds: feeds() } }))).secret
    wanted.value = fresh()
  })
}
const removeUser = (user: string) => act('Not ended', `${user} is signed out everywhere.`, () => got(api.DELETE('/api/v1/users/{user}', { params: { path: { user } } })))
const endToken = (id: number) => act('Not ended', `Token ${id} is ended.`, () => got(api.DELETE('/api/v1/tokens/{id}', { params: { path: { id } } })))
const changePassword = () =>
  act('Not changed', 'Changed. Your other sessions are ended.', async () => {
    await got(api.PUT('/api/v1/session/password', { body: { old: change.value.old, new: change.value.now } }))
    change.value = { old: '', now: '' }
  })
const edit = (u: { name: string; role: Role; feeds: string[]; data: boolean }) => (wanted.value = { name: u.name, role: u.role, feeds: u.feeds.join(' '), blind: !u.data, password: '' })
const may = (r: { role: string; feeds: string[]; data: boolean }) => `${r.role}${r.feeds.length ? `, ${r.feeds.join(', ')}` : ''}${r.data ? '' : ', without data'}`
</script>

<template>
  <section class="panel">
    <h1>{{ signedIn?.name }}</h1>
    <p class="quiet">Your role is {{ may({ role: signedIn?.role ?? 'look', feeds: signedIn?.feeds ?? [], data: signedIn?.data ?? false }) }}.</p>
    <form v-if="signedIn?.by === 'password'" class="row" @submit.prevent="changePassword">
      <n-input v-model:value="change.old" type="password" size="small" placeholder="Password" :input-props="{ 'aria-label': 'Old password', autocomplete: 'current-password' }" />
      <n-input v-model:value="change.now" type="password" size="small" placeholder="New password, 10 characters or more" :input-props="{ 'aria-label': 'New password', autocomplete: 'new-password' }" />
      <n-button size="small" attr-type="submit" :disabled="!change.old || change.now.length < 10">Change password</n-button>
    </form>
  </section>
  <template v-if="owner">
    <section class="panel">
      <h2>Who may sign in</h2>
      <p v-if="error" role="alert">{{ error.message }}</p>
      <p v-if="users && !users.items.length" class="nothing">Nobody has a name of their own yet; all use the owner's. Make one below.</p>
      <GridTable v-if="users?.items.length" name="users">
        <thead>
          <tr><th>User</th><th>Signs in by</th><th>May</th><th>Since</th><th>Last used</th><th class="n">Sessions</th><th><span class="unseen">End it</span></th></tr>
        </thead>
        <tbody>
          <tr v-for="u in users.items" :key="u.name">
            <td>{{ u.name }}</td>
            <td>{{ u.by === 'openid' ? 'OpenID Connect' : 'password' }}</td>
            <td>{{ may(u) }}</td>
            <td class="t" :title="exact(u.created_at)">{{ time(u.created_at) }}</td>
            <td class="t" :title="exact(u.last_used_at)">{{ time(u.last_used_at) }}</td>
            <td class="n">{{ count(u.sessions) }}</td>
            <td class="row"><n-button v-if="u.by === 'password'" size="tiny" @click="edit(u)">Change</n-button><n-button size="tiny" @click="removeUser(u.name)">End</n-button></td>
          </tr>
        </tbody>
      </GridTable>
      <form class="row new" @submit.prevent="putUser">
        <n-input v-model:value="wanted.name" size="small" placeholder="Name" :input-props="{ 'aria-label': 'Name', autocomplete: 'off' }" />
        <n-select v-model:value="wanted.role" size="small" :options="roles" aria-label="Role" class="role" />
        <n-input v-model:value="wanted.feeds" size="small" placeholder="Feeds, such as gauge-*; none for all" :input-props="{ 'aria-label': 'Feeds' }" class="feeds" />
        <n-checkbox v-model:checked="wanted.blind" size="small">Without data</n-checkbox>
        <n-input v-model:value="wanted.password" type="password" size="small" placeholder="Password" :input-props="{ 'aria-label': 'Password', autocomplete: 'new-password' }" />
        <n-button size="small" type="primary" attr-type="submit" :disabled="!wanted.name">Keep user</n-button>
        <n-button size="small" :disabled="!wanted.name" @click="newToken">Make token</n-button>
      </form>
    </section>
    <section class="panel">
      <h2>Tokens</h2>
      <p v-if="secret" class="mono secret" role="status">{{ secret }}</p>
      <GridTable v-if="tokens?.items.length" name="tokens">
        <thead>
          <tr><th class="n">Token</th><th>Name</th><th>May</th><th>Since</th><th>Until</th><th>Last used</th><th class="n">Sessions</th><th><span class="unseen">End it</span></th></tr>
        </thead>
        <tbody>
          <tr v-for="t in tokens.items" :key="t.id">
            <td class="n">{{ t.id }}</td>
            <td>{{ t.name }}</td>
            <td>{{ may(t) }}</td>
            <td class="t" :title="exact(t.created_at)">{{ time(t.created_at) }}</td>
            <td class="t" :title="exact(t.expires_at)">{{ time(t.expires_at) }}</td>
            <td class="t" :title="exact(t.last_used_at)">{{ time(t.last_used_at) }}</td>
            <td class="n">{{ count(t.sessions) }}</td>
            <td><n-button size="tiny" @click="endToken(t.id)">End</n-button></td>
          </tr>
        </tbody>
      </GridTable>
    </section>
    <section class="panel">
      <h2>What was done</h2>
      <p v-if="acts && !acts.items.length" class="nothing">Nothing yet. Whatever changes something is kept here, also what was refused.</p>
      <GridTable v-if="acts?.items.length" name="acts">
        <thead>
          <tr><th>At</th><th>By</th><th>From</th><th>What</th><th>Of</th><th>Because</th><th>Before</th><th>After</th></tr>
        </thead>
        <tbody>
          <tr v-for="a in acts.items" :key="a.id">
            <td class="t" :title="exact(a.at)">{{ time(a.at) }}</td>
            <td>{{ harmless(a.by) }}</td>
            <td>{{ a.from }}, {{ a.way === 'session' ? 'console' : 'API' }}</td>
            <td>{{ a.what }}<div v-if="a.status >= 400" class="bad">refused ({{ a.status }})</div></td>
            <td>{{ harmless(a.of.replace('/api/v1', '')) }}</td>
            <td>{{ harmless(a.because) }}</td>
            <td>{{ harmless(a.before) }}</td>
            <td>{{ harmless(a.after) }}</td>
          </tr>
        </tbody>
      </GridTable>
    </section>
  </template>
</template>

<style scoped>
.new {
  margin-top: 12px;
  flex-wrap: wrap;
}
.new > * {
  flex: 1 1 140px;
}
.new > .n-checkbox,
.new > .n-button {
  flex: none;
}
.role {
  min-width: 240px;
}
.feeds {
  min-width: 280px;
}
.secret {
  background: var(--mark);
  padding: 6px 8px;
  margin: 0 0 8px;
}
.bad {
  color: var(--bad);
}
td.row {
  gap: 6px;
}
</style>
