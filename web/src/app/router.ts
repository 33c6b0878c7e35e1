import { watch } from 'vue'
import { createRouter, createWebHistory } from 'vue-router'

import MatrixView from '@/views/matrix/MatrixView.vue'
import NowView from '@/views/now/NowView.vue'

import { heading } from './heading'
import { about, loadSession, may, person, type Scope } from './session'

declare module 'vue-router' {
  interface RouteMeta {
    /** Without rail and ribbon, and for whoever is not signed in. */
    isBare?: boolean
    needs?: Scope
  }
}

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', redirect: '/now' },
    { path: '/now', name: 'now', component: NowView, meta: { title: 'Now' } },
    { path: '/matrix', name: 'matrix', component: MatrixView, meta: { title: 'Matrix' } },
    {
      path: '/streams/:stream(\\d+)',
      name: 'stream',
      component: () => import('@/views/stream/StreamView.vue'),
      meta: { title: 'Stream' },
    },
    {
      path: '/vantage-points',
      name: 'vantage-points',
      component: () => import('@/views/vantage-points/VantagePointsView.vue'),
      meta: { title: 'Vantage points' },
    },
    {
      path: '/targets',
      name: 'targets',
      component: () => import('@/views/targets/TargetsView.vue'),
      meta: { title: 'Targets' },
    },
    ...(['target', 'vantage-point', 'group'] as const).map((name) => ({
      path: `/${name}s/:id(\\d+)`,
      name,
      component: () => import('@/views/overview/OverviewView.vue'),
      meta: { title: 'In figures' },
    })),
    {
      path: '/estate',
      name: 'estate',
      component: () => import('@/views/overview/OverviewView.vue'),
      meta: { title: 'Everything' },
    },
    {
      path: '/compare',
      name: 'compare',
      component: () => import('@/views/compare/CompareView.vue'),
      meta: { title: 'Compare' },
    },
    {
      path: '/map',
      name: 'map',
      component: () => import('@/views/map/MapView.vue'),
      meta: { title: 'Map' },
    },
    {
      path: '/groups',
      name: 'groups',
      component: () => import('@/views/groups/GroupsView.vue'),
      meta: { title: 'Groups' },
    },
    {
      path: '/probes',
      name: 'probes',
      component: () => import('@/views/probes/ProbesView.vue'),
      meta: { title: 'Probes' },
    },
    {
      path: '/probes/new',
      name: 'new-probe',
      component: () => import('@/views/probes/ProbeEditor.vue'),
      meta: { title: 'New probe', needs: 'edit' },
    },
    {
      path: '/probes/:probe(\\d+)',
      name: 'probe',
      component: () => import('@/views/probes/ProbeEditor.vue'),
      meta: { title: 'Probe' },
    },
    {
      path: '/coverage',
      name: 'coverage',
      component: () => import('@/views/coverage/CoverageView.vue'),
      meta: { title: 'Coverage' },
    },
    {
      path: '/store',
      name: 'store',
      component: () => import('@/views/store/StoreView.vue'),
      meta: { title: 'Store' },
    },
    {
      path: '/access',
      name: 'access',
      component: () => import('@/views/access/AccessView.vue'),
      meta: { title: 'Access', needs: 'administer' },
    },
    {
      path: '/sign-in',
      name: 'sign-in',
      component: () => import('@/views/sign-in/SignInView.vue'),
      meta: { title: 'Sign in', isBare: true },
    },
    {
      path: '/password',
      name: 'password',
      component: () => import('@/views/sign-in/PasswordView.vue'),
      meta: { title: 'Password', isBare: true },
    },
    {
      path: '/:path(.*)*',
      name: 'nowhere',
      component: () => import('@/views/NowhereView.vue'),
      meta: { title: 'Not here' },
    },
  ],
})

// The clock is kept in the address of every screen: a link takes it along unless it brings its own.
const CLOCK = ['span', 'from', 'to', 'window', 'against'] as const
router.beforeEach((to, from) => {
  const isBare = CLOCK.every((key) => to.query[key] === undefined)
  const kept = Object.fromEntries(
    CLOCK.filter((key) => from.query[key] !== undefined).map((key) => [key, from.query[key]]),
  )
  if (to.path !== from.path && isBare && Object.keys(kept).length > 0) {
    return { path: to.path, query: { ...to.query, ...kept }, hash: to.hash, replace: true }
  }
  return true
})

router.beforeEach((to) => {
  heading.value = to
})
router.afterEach((to) => {
  heading.value = null
  document.title = `${String(to.meta.title)} – Kuppel`
})

router.beforeEach(async (to) => {
  if (about.value === null) {
    try {
      await loadSession()
    } catch {
      // Without its hub every page says so itself; the sign-in page is the one that needs no data.
      return to.name === 'sign-in' ? true : { name: 'sign-in', query: { back: to.fullPath } }
    }
  }
  if (to.name === 'sign-in') return person.value ? { path: '/' } : true
  if (person.value === null) return { name: 'sign-in', query: to.path === '/' ? {} : { back: to.fullPath } }
  if (person.value.must_change && to.name !== 'password') return { name: 'password', query: { back: to.fullPath } }
  if (to.meta.needs && !may(to.meta.needs)) return { name: 'nowhere', params: { path: ['not-yours'] } }
  return true
})

/* A session that ends while its page is open leads to signing in, and back. */
watch(person, (now, before) => {
  const here = router.currentRoute.value
  if (before && !now && here.name !== 'sign-in') void router.push({ name: 'sign-in', query: { back: here.fullPath } })
})
