<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import IconOverview from '~icons/bi/compass'
import IconGateway from '~icons/bi/hdd-network'
import IconPeople from '~icons/bi/people'
import IconDevice from '~icons/bi/laptop'
import IconProfile from '~icons/bi/file-earmark-lock'
import IconHandovers from '~icons/bi/send-check'
import IconOffboarding from '~icons/bi/person-dash'
import IconPatterns from '~icons/bi/diagram-3'
import IconPlatforms from '~icons/bi/grid-3x3-gap'
import IconCertificates from '~icons/bi/patch-check'
import IconAuthorities from '~icons/bi/shield-lock'
import IconDirectory from '~icons/bi/person-lines-fill'
import IconMail from '~icons/bi/envelope'
import IconOperators from '~icons/bi/person-badge'
import IconFindings from '~icons/bi/clipboard-pulse'
import IconCheck from '~icons/bi/file-earmark-check'
import IconExplain from '~icons/bi/life-preserver'
import IconRehearsals from '~icons/bi/play-circle'
import IconRules from '~icons/bi/list-check'
import IconLog from '~icons/bi/journal-text'
import IconOrganisation from '~icons/bi/building'
import IconTheme from '~icons/bi/circle-half'
import IconOut from '~icons/bi/box-arrow-right'
import IconMenu from '~icons/bi/list'
import { useSession } from './api/session'
import ConfirmDialog from './parts/ConfirmDialog.vue'

const session = useSession()
const route = useRoute()
const router = useRouter()
const open = ref(false)

const links: { to: string; text: string; icon: unknown; role?: 'issuer' | 'owner' }[] = [
  { to: '/', text: 'Overview', icon: IconOverview },
  { to: '/gateways', text: 'Gateways', icon: IconGateway },
  { to: '/people', text: 'People', icon: IconPeople },
  { to: '/devices', text: 'Devices', icon: IconDevice },
  { to: '/profiles', text: 'Profiles', icon: IconProfile },
  { to: '/rehearsals', text: 'Rehearsals', icon: IconRehearsals },
  { to: '/handovers', text: 'Handovers', icon: IconHandovers },
  { to: '/patterns', text: 'Patterns', icon: IconPatterns },
  { to: '/certificates', text: 'Certificates', icon: IconCertificates },
  { to: '/authorities', text: 'Authorities', icon: IconAuthorities },
  { to: '/findings', text: 'Findings', icon: IconFindings },
  { to: '/check', text: 'Check files', icon: IconCheck },
  { to: '/explain', text: 'Explain', icon: IconExplain },
  { to: '/platforms', text: 'Platforms', icon: IconPlatforms },
  { to: '/rules', text: 'Rules', icon: IconRules },
  { to: '/offboardings', text: 'Offboarding', icon: IconOffboarding },
  { to: '/log', text: 'Audit log', icon: IconLog },
  { to: '/operators', text: 'Operators', icon: IconOperators, role: 'owner' as const },
  { to: '/directory', text: 'Directory', icon: IconDirectory },
  { to: '/mail', text: 'Mail', icon: IconMail },
  { to: '/organisation', text: 'Organisation', icon: IconOrganisation },
]
const shown = computed(() => links.filter((l) => !l.role || session.may(l.role)))
const here = computed(() => '/' + (route.path.split('/')[1] ?? ''))

const dark = ref(
  localStorage.getItem('theme')
    ? localStorage.getItem('theme') === 'dark'
    : matchMedia('(prefers-color-scheme: dark)').matches,
)
watch(dark, (on) => document.documentElement.setAttribute('data-bs-theme', on ? 'dark' : 'light'), {
  immediate: true,
})
function turn() {
  dark.value = !dark.value
  localStorage.setItem('theme', dark.value ? 'dark' : 'light')
}
// What only changes something is not shown to who may not change it; the service refuses it in any
// case.
watch(
  () => session.operator?.role,
  (role) => (document.body.dataset.role = role ?? ''),
  { immediate: true },
)
watch(
  () => route.path,
  () => (open.value = false),
)
async function leave() {
  await session.signOut()
  await router.push('/sign-in')
}
</script>

<template>
  <a class="skip" href="#main">Skip to the content</a>
  <div v-if="session.operator" class="shell">
    <nav class="rail" :class="{ closed: !open }" aria-label="Main">
      <div class="brand"><img src="/favicon.svg" alt="" /> Wardicon</div>
      <button class="menu-button" type="button" :aria-expanded="open" @click="open = !open">
        <IconMenu /> Menu
      </button>
      <RouterLink
        v-for="l in shown"
        :key="l.to"
        :to="l.to"
        :class="{ here: here === l.to }"
        :aria-current="here === l.to ? 'page' : undefined"
        ><component :is="l.icon" aria-hidden="true" /> {{ l.text }}</RouterLink
      >
      <div class="foot">
        <RouterLink class="who" to="/me" :aria-current="here === '/me' ? 'page' : undefined"
          >{{ session.operator.name }}, {{ session.operator.role }}</RouterLink
        >
        <button type="button" @click="turn">
          <IconTheme aria-hidden="true" /> {{ dark ? 'Light' : 'Dark' }} colours
        </button>
        <button type="button" @click="leave"><IconOut aria-hidden="true" /> Sign out</button>
      </div>
    </nav>
    <main id="main" class="page"><RouterView :key="route.path" /></main>
  </div>
  <main v-else id="main"><RouterView /></main>
  <ConfirmDialog />
</template>
