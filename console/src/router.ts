import { createRouter, createWebHistory } from 'vue-router'
import { useSession } from './api/session'
import { whenSignedOut } from './api/client'
import { places } from './places'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/sign-in', component: () => import('./pages/SignIn.vue'), meta: { open: true } },
    { path: '/confirmed', component: () => import('./pages/Confirmed.vue') },
    { path: '/me', component: () => import('./pages/Me.vue') },
    { path: '/imports', component: () => import('./pages/Imports.vue') },
    { path: '/gateways/ask', component: () => import('./pages/Stranger.vue') },
    ...places.map(({ path, page }) => ({ path, component: page })),
    ...places.flatMap(({ path, record }) =>
      record ? [{ path: `${path}/:id`, component: record, props: true }] : [],
    ),
    { path: '/:rest(.*)', component: () => import('./pages/Missing.vue') },
  ],
  scrollBehavior: (_to, _from, saved) => saved ?? { top: 0 },
})

router.beforeEach(async (to) => {
  const session = useSession()
  if (!session.known) await session.find()
  if (!session.operator && !to.meta.open) return { path: '/sign-in', query: { to: to.fullPath } }
  // Somebody else has chosen the password, or a second factor is demanded: nothing but that is
  // allowed.
  if ((session.operator?.must_change || session.operator?.must_enrol) && to.path !== '/me')
    return '/me'
  return true
})

whenSignedOut(() => {
  const session = useSession()
  if (!session.operator) return
  session.operator = null
  void router.push({ path: '/sign-in', query: { to: router.currentRoute.value.fullPath } })
})
