import { createRouter, createWebHistory } from 'vue-router'
import { useSession } from './api/session'
import { whenSignedOut } from './api/client'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', component: () => import('./pages/Overview.vue') },
    { path: '/sign-in', component: () => import('./pages/SignIn.vue'), meta: { open: true } },
    { path: '/gateways', component: () => import('./pages/Gateways.vue') },
    { path: '/gateways/ask', component: () => import('./pages/Stranger.vue') },
    { path: '/gateways/:id', component: () => import('./pages/Gateway.vue'), props: true },
    { path: '/people', component: () => import('./pages/People.vue') },
    { path: '/people/:id', component: () => import('./pages/Person.vue'), props: true },
    { path: '/imports', component: () => import('./pages/Imports.vue') },
    { path: '/devices', component: () => import('./pages/Devices.vue') },
    { path: '/devices/:id', component: () => import('./pages/Device.vue'), props: true },
    { path: '/profiles', component: () => import('./pages/Profiles.vue') },
    { path: '/profiles/:id', component: () => import('./pages/Profile.vue'), props: true },
    { path: '/patterns', component: () => import('./pages/Patterns.vue') },
    { path: '/patterns/:id', component: () => import('./pages/Pattern.vue'), props: true },
    { path: '/certificates', component: () => import('./pages/Certificates.vue') },
    { path: '/certificates/:id', component: () => import('./pages/Certificate.vue'), props: true },
    { path: '/authorities', component: () => import('./pages/Authorities.vue') },
    { path: '/authorities/:id', component: () => import('./pages/Authority.vue'), props: true },
    { path: '/rehearsals', component: () => import('./pages/Rehearsals.vue') },
    { path: '/handovers', component: () => import('./pages/Handovers.vue') },
    { path: '/offboardings', component: () => import('./pages/Offboarding.vue') },
    { path: '/directory', component: () => import('./pages/Directory.vue') },
    { path: '/mail', component: () => import('./pages/Mail.vue') },
    { path: '/platforms', component: () => import('./pages/Platforms.vue') },
    { path: '/findings', component: () => import('./pages/Findings.vue') },
    { path: '/check', component: () => import('./pages/Check.vue') },
    { path: '/explain', component: () => import('./pages/Explain.vue') },
    { path: '/rules', component: () => import('./pages/Rules.vue') },
    { path: '/operators', component: () => import('./pages/Operators.vue') },
    { path: '/me', component: () => import('./pages/Me.vue') },
    { path: '/log', component: () => import('./pages/Log.vue') },
    { path: '/organisation', component: () => import('./pages/Organisation.vue') },
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
