import { createRouter, createWebHistory } from 'vue-router'

import MatrixView from '@/views/matrix/MatrixView.vue'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', redirect: '/matrix' },
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
      path: '/:path(.*)*',
      name: 'nowhere',
      component: () => import('@/views/NowhereView.vue'),
      meta: { title: 'Not here' },
    },
  ],
})

// The clock is kept in the address of every screen: a link takes it along unless it brings its own.
const CLOCK = ['span', 'from', 'to', 'window'] as const
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

router.afterEach((to) => {
  document.title = `${String(to.meta.title)} – Kuppel`
})
