// The pages of the console: where they are, and where the navigation shows them. Pages of nouns are
// declared with the nouns, in nouns/.
import type { Component } from 'vue'
import type { RouteRecordRaw } from 'vue-router'
import IconOverview from '~icons/bi/compass'
import IconHandovers from '~icons/bi/send-check'
import IconOffboarding from '~icons/bi/person-dash'
import IconFindings from '~icons/bi/clipboard-pulse'
import IconRehearsals from '~icons/bi/play-circle'
import IconCheck from '~icons/bi/file-earmark-check'
import IconExplain from '~icons/bi/life-preserver'
import IconRules from '~icons/bi/list-check'
import IconPlatforms from '~icons/bi/grid-3x3-gap'
import IconCertificates from '~icons/bi/patch-check'
import IconOperators from '~icons/bi/person-badge'
import IconDirectory from '~icons/bi/person-lines-fill'
import IconMail from '~icons/bi/envelope'
import IconOrganisation from '~icons/bi/building'
import IconCalendar from '~icons/bi/calendar3'
import IconLog from '~icons/bi/journal-text'

type Page = NonNullable<RouteRecordRaw['component']>

export interface Place {
  path: string
  text: string
  icon: Component
  /** none for what stands above the groups */
  group?: keyof typeof groups
  /** within the group */
  order: number
  /** the role that its pages need, if not everybody's */
  role?: 'issuer' | 'owner'
  page: Page
  /** the page of one record, at path/:id */
  record?: Page
}

/** A place of a noun's list and of its records' pages. */
export type NounPlace = Place & { group: keyof typeof groups; record: Page }

export const groups = {
  inventory: 'Inventory',
  delivery: 'Delivery',
  assurance: 'Assurance',
  settings: 'Trust and settings',
}

const own: Place[] = [
  {
    path: '/',
    text: 'Overview',
    icon: IconOverview,
    order: 1,
    page: () => import('./pages/Overview.vue'),
  },
  {
    path: '/handovers',
    text: 'Handovers',
    icon: IconHandovers,
    group: 'delivery',
    order: 1,
    page: () => import('./pages/Handovers.vue'),
  },
  {
    path: '/calendar',
    text: 'Calendar',
    icon: IconCalendar,
    group: 'delivery',
    order: 4,
    page: () => import('./pages/Calendar.vue'),
  },
  {
    path: '/offboardings',
    text: 'Offboarding',
    icon: IconOffboarding,
    group: 'delivery',
    order: 3,
    page: () => import('./pages/Offboarding.vue'),
  },
  {
    path: '/findings',
    text: 'Findings',
    icon: IconFindings,
    group: 'assurance',
    order: 1,
    page: () => import('./pages/Findings.vue'),
  },
  {
    path: '/rehearsals',
    text: 'Rehearsals',
    icon: IconRehearsals,
    group: 'assurance',
    order: 2,
    page: () => import('./pages/Rehearsals.vue'),
  },
  {
    path: '/check',
    text: 'Check files',
    icon: IconCheck,
    group: 'assurance',
    order: 3,
    page: () => import('./pages/Check.vue'),
  },
  {
    path: '/explain',
    text: 'Diagnose',
    icon: IconExplain,
    group: 'assurance',
    order: 4,
    page: () => import('./pages/Explain.vue'),
  },
  {
    path: '/rules',
    text: 'Rules',
    icon: IconRules,
    group: 'assurance',
    order: 5,
    page: () => import('./pages/Rules.vue'),
  },
  {
    path: '/platforms',
    text: 'Platforms',
    icon: IconPlatforms,
    group: 'assurance',
    order: 6,
    page: () => import('./pages/Platforms.vue'),
  },
  {
    path: '/certificates',
    text: 'Certificates',
    icon: IconCertificates,
    group: 'settings',
    order: 1,
    page: () => import('./pages/Certificates.vue'),
    record: () => import('./pages/Certificate.vue'),
  },
  {
    path: '/operators',
    text: 'Operators',
    icon: IconOperators,
    group: 'settings',
    order: 3,
    role: 'owner',
    page: () => import('./pages/Operators.vue'),
  },
  {
    path: '/directory',
    text: 'Directory',
    icon: IconDirectory,
    group: 'settings',
    order: 4,
    page: () => import('./pages/Directory.vue'),
  },
  {
    path: '/mail',
    text: 'Mail',
    icon: IconMail,
    group: 'settings',
    order: 5,
    page: () => import('./pages/Mail.vue'),
  },
  {
    path: '/organisation',
    text: 'Organisation',
    icon: IconOrganisation,
    group: 'settings',
    order: 6,
    page: () => import('./pages/Organisation.vue'),
  },
  {
    path: '/log',
    text: 'Audit log',
    icon: IconLog,
    group: 'settings',
    order: 7,
    page: () => import('./pages/Log.vue'),
  },
]

const nouns = import.meta.glob<{ place?: Place }>('./nouns/*/index.ts', { eager: true })

export const places: Place[] = [
  ...own,
  ...Object.values(nouns).flatMap(({ place }) => (place ? [place] : [])),
].sort((a, b) => a.order - b.order)
