import { createRouter, createWebHistory } from 'vue-router'
import { useSession } from './stores/session'
import Account from './views/Account.vue'
import Cases from './views/Cases.vue'
import Compare from './views/Compare.vue'
import Evidence from './views/Evidence.vue'
import Expectations from './views/Expectations.vue'
import Join from './views/Join.vue'
import Notes from './views/Notes.vue'
import Notices from './views/Notices.vue'
import People from './views/People.vue'
import Record from './views/Record.vue'
import SignIn from './views/SignIn.vue'
import Sitting from './views/Sitting.vue'
import Teams from './views/Teams.vue'
import Traces from './views/Traces.vue'

export const router = createRouter({
  history: createWebHistory(),
  // Pages of a case are below "-", which evidence cannot be named.
  routes: [
    { path: '/', redirect: '/cases' },
    { path: '/sign-in', name: 'sign-in', component: SignIn },
    { path: '/join', name: 'join', component: Join },
    { path: '/account', name: 'account', component: Account },
    { path: '/cases', name: 'cases', component: Cases },
    { path: '/teams', name: 'teams', component: Teams },
    { path: '/cases/:case', name: 'evidence', component: Evidence, props: true },
    { path: '/cases/:case/-/traces', name: 'traces', component: Traces, props: true },
    { path: '/cases/:case/-/expectations', name: 'expectations', component: Expectations, props: true },
    { path: '/cases/:case/-/compare', name: 'compare', component: Compare, props: true },
    { path: '/cases/:case/-/notes', name: 'notes', component: Notes, props: true },
    { path: '/cases/:case/-/notices', name: 'notices', component: Notices, props: true },
    { path: '/cases/:case/-/people', name: 'people', component: People, props: true },
    { path: '/cases/:case/-/record', name: 'record', component: Record, props: true },
    { path: '/cases/:case/:evidence', name: 'sitting', component: Sitting, props: true },
    { path: '/:rest(.*)', redirect: '/cases' },
  ],
})

/** Pages for people who are not signed in. */
const open = ['sign-in', 'join']

router.beforeEach(async (to) => {
  const session = useSession()
  try {
    await session.find()
  } catch {
    return open.includes(String(to.name)) ? true : { name: 'sign-in', query: { then: to.fullPath } }
  }
  if (!session.name && !open.includes(String(to.name))) return { name: 'sign-in', query: { then: to.fullPath } }
})
