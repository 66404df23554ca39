<script setup lang="ts">
import { NConfigProvider, NMessageProvider } from 'naive-ui'
import { ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api } from './api/client'
import { base } from './base'
import SearchBox from './components/SearchBox.vue'
import { listen, live, queries, stopListening } from './live'
import { signedIn } from './session'
import { base as theme, dark, overrides, switchTheme } from './theme'

const route = useRoute()
const unfolded = ref(false) // the names of the pages, where there is little room
const router = useRouter()
const pages = [
  { to: '/today', name: 'Today' },
  { to: '/feeds', name: 'Feeds' },
  { to: '/ledger', name: 'Ledger' },
  { to: '/rejects', name: 'Rejects' },
  { to: '/due', name: 'Due' },
  { to: '/runs', name: 'Runs' },
  { to: '/chains', name: 'Chains' },
  { to: '/notices', name: 'Notices' },
  { to: '/volumes', name: 'Volumes' },
  { to: '/extracts', name: 'Extracts' },
  { to: '/places', name: 'Places' },
]

const acts = [
  { name: 'Make a feed', act: () => router.push('/new-feed') },
  { name: 'Rehearse a feed file', act: () => router.push('/rehearsal') },
  { name: 'Switch between light and dark', act: switchTheme },
  { name: 'Sign out', act: signOut },
]

watch(
  () => route.path,
  () => (unfolded.value = false),
)
watch(signedIn, (who) => (who ? listen() : stopListening()), { immediate: true })

async function signOut() {
  await api.DELETE('/api/v1/session')
  signedIn.value = undefined
  queries.clear()
  await router.push('/sign-in')
}
</script>

<template>
  <n-config-provider :theme="theme" :theme-overrides="overrides" abstract>
    <n-message-provider>
      <header v-if="signedIn && !route.meta.open">
        <nav class="row" :class="{ unfolded }" aria-label="Pages">
          <router-link to="/today" class="name"><img :src="`${base}/icon.svg`" alt="" width="22" height="22" />Mullein</router-link>
          <button type="button" class="fold" :aria-expanded="unfolded" @click="unfolded = !unfolded">Pages</button>
          <router-link v-for="p in pages" :key="p.to" :to="p.to" class="page" :class="{ 'router-link-active': route.path.startsWith(`${p.to}/`) }">{{ p.name }}</router-link>
        </nav>
        <div class="row">
          <SearchBox :pages="[...pages, { to: '/people', name: 'People' }, { to: '/settings', name: 'Settings' }]" :acts="acts" />
          <span class="quiet" role="status" :title="live ? 'This page updates by itself.' : 'The stream of news is broken; trying again.'">
            <svg width="10" height="10" aria-hidden="true"><circle cx="5" cy="5" r="4" :class="live ? 'on' : 'off'" /></svg>
            {{ live ? 'live' : 'connecting' }}
          </span>
          <span class="quiet service">{{ signedIn.service }}</span>
          <router-link to="/people" class="page" :title="`${signedIn.name} may ${signedIn.role}`">{{ signedIn.name }}</router-link>
          <button type="button" class="button bare" @click="switchTheme">{{ dark ? 'Light' : 'Dark' }}</button>
          <button type="button" class="button bare" @click="signOut">Sign out</button>
        </div>
      </header>
      <main>
        <router-view />
      </main>
    </n-message-provider>
  </n-config-provider>
</template>

<style scoped>
header {
  display: flex;
  justify-content: space-between;
  padding: 0 20px;
  height: 44px;
  background: var(--paper);
  border-bottom: 1px solid var(--line);
}
.name {
  display: flex;
  align-items: center;
  gap: 8px;
  font-weight: 650;
  font-size: 15px;
  color: var(--ink);
  margin-right: 8px;
}
header .row {
  white-space: nowrap;
}
header nav {
  gap: 4px;
}
.page {
  color: var(--quiet);
  line-height: 42px;
  padding: 0 5px;
  border-bottom: 2px solid transparent;
}
.page.router-link-active {
  color: var(--ink);
  border-bottom-color: var(--sun);
}
main {
  max-width: 1860px;
  margin: 0 auto;
  padding: 16px 20px 40px;
}
.fold {
  display: none;
  border: 1px solid var(--line);
  border-radius: 3px;
  background: none;
  color: var(--ink);
  font: inherit;
  padding: 2px 10px;
  cursor: pointer;
}
@media (max-width: 640px) {
  .fold {
    display: block;
    margin-left: auto;
  }
  header nav {
    width: 100%;
  }
  nav:not(.unfolded) .page:not(.router-link-active) {
    display: none;
  }
}
@media (max-width: 1340px) {
  .service {
    display: none;
  }
}
@media (max-width: 1000px) {
  header {
    flex-wrap: wrap;
    height: auto;
    padding: 4px 12px;
  }
  header nav {
    flex-wrap: wrap;
    gap: 0 8px;
  }
  .page {
    line-height: 30px;
  }
  main {
    padding: 12px 12px 40px;
  }
}
.on {
  fill: var(--good);
}
.off {
  fill: none;
  stroke: var(--warm);
  stroke-width: 1.5;
}
</style>
