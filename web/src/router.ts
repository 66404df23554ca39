import { createRouter, createWebHistory, type RouteLocationNormalized } from 'vue-router'
import { api } from './api/client'
import { base } from './base'
import Today from './pages/Today.vue'
import { signedIn } from './session'
import { beginToday } from './today'

export const router = createRouter({
  history: createWebHistory(base + '/'),
  routes: [
    { path: '/', redirect: '/today' },
    { path: '/sign-in', component: () => import('./pages/SignIn.vue'), meta: { title: 'Sign in', open: true } },
    { path: '/today', component: Today, meta: { title: 'Today' } },
    { path: '/feeds', component: () => import('./pages/Feeds.vue'), meta: { title: 'Feeds' } },
    { path: '/new-feed', component: () => import('./pages/FeedFile.vue'), meta: { title: 'New feed' } },
    { path: '/feeds/:feed/edit', component: () => import('./pages/FeedFile.vue'), meta: { title: 'Change a feed' } },
    { path: '/feeds/:feed', component: () => import('./pages/Feed.vue'), meta: { title: 'Feed' } },
    { path: '/feeds/:feed/checks/:check', component: () => import('./pages/Check.vue'), meta: { title: 'Check' } },
    { path: '/rehearsal', component: () => import('./pages/Rehearse.vue'), meta: { title: 'Rehearsal' } },
    { path: '/feeds/:feed/rehearsal', component: () => import('./pages/Rehearse.vue'), meta: { title: 'Rehearsal' } },
    { path: '/rejects', component: () => import('./pages/Rejects.vue'), meta: { title: 'Rejects' } },
    { path: '/ledger', component: () => import('./pages/Ledger.vue'), meta: { title: 'Ledger' } },
    { path: '/arrivals/:id', component: () => import('./pages/Arrival.vue'), meta: { title: 'Arrival' } },
    { path: '/arrivals/:id/recall', component: () => import('./pages/Recall.vue'), meta: { title: 'Recall' } },
    { path: '/targets/:table', component: () => import('./pages/Target.vue'), meta: { title: 'Target' } },
    { path: '/targets/:table/row', component: () => import('./pages/Row.vue'), meta: { title: 'Row' } },
    { path: '/due', component: () => import('./pages/Due.vue'), meta: { title: 'Due' } },
    { path: '/runs', component: () => import('./pages/Runs.vue'), meta: { title: 'Runs' } },
    { path: '/notices', component: () => import('./pages/Notices.vue'), meta: { title: 'Notices' } },
    { path: '/chains', component: () => import('./pages/Chains.vue'), meta: { title: 'Chains' } },
    { path: '/volumes', component: () => import('./pages/Volumes.vue'), meta: { title: 'Volumes' } },
    { path: '/extracts', component: () => import('./pages/Extracts.vue'), meta: { title: 'Extracts' } },
    { path: '/extracts/:extract', component: () => import('./pages/Extract.vue'), meta: { title: 'Extract' } },
    { path: '/places', component: () => import('./pages/Places.vue'), meta: { title: 'Places' } },
    { path: '/settings', component: () => import('./pages/Settings.vue'), meta: { title: 'Settings' } },
    { path: '/people', component: () => import('./pages/People.vue'), meta: { title: 'People' } },
    { path: '/:rest(.*)*', component: () => import('./pages/Nowhere.vue'), meta: { title: 'Nothing here' } },
  ],
})

// The page that is called first, and what it shows, are read while it is asked who is signed in.
function begin(to: RouteLocationNormalized) {
  const page = to.matched[0]?.components?.default
  if (typeof page === 'function') void (page as () => Promise<unknown>)().catch(() => undefined) // the router says so itself
  if (to.path === '/today') beginToday()
}

router.beforeEach(async (to) => {
  if (to.meta.open || signedIn.value) return true
  begin(to)
  const { data } = await api.GET('/api/v1/session')
  if (!data) return { path: '/sign-in', query: { to: to.fullPath } }
  signedIn.value = data
  return true
})

// The other pages are read when the browser has nothing else to do, so that a click finds them there; those with large
// parts of their own last.
const large = ['/volumes', '/new-feed']
async function readAhead() {
  const isLarge = (path: string) => large.includes(path)
  for (const route of router.getRoutes().sort((a, b) => +isLarge(a.path) - +isLarge(b.path))) {
    const page = route.components?.default
    if (typeof page !== 'function') continue
    await new Promise((idle) => (window.requestIdleCallback ?? setTimeout)(idle))
    await (page as () => Promise<unknown>)().catch(() => undefined)
  }
  beginToday()
  document.documentElement.dataset.ahead = 'done' // for tests
}
void router.isReady().then(() => setTimeout(() => void readAhead(), 1500))

router.afterEach((to) => {
  document.title = `${String(to.params.feed ?? to.params.extract ?? to.meta.title)} · Mullein`
})
