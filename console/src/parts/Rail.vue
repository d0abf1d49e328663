<script setup lang="ts">
// The navigation: groups of places that open and close, and stay so. On a phone, one is open at a
// time.
import { computed, reactive, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import IconTheme from '~icons/bi/circle-half'
import IconOut from '~icons/bi/box-arrow-right'
import IconLanguage from '~icons/bi/translate'
import IconSearch from '~icons/bi/search'
import IconMenu from '~icons/bi/list'
import IconOpen from '~icons/bi/chevron-down'
import IconClosed from '~icons/bi/chevron-right'
import { useSession } from '../api/session'
import { groups, type Place, places } from '../places'
import { useTheme } from './useTheme'
import { choose, language, type Language, languages, say } from '../words'

type Group = keyof typeof groups
defineEmits<{ search: [] }>()

const session = useSession()
const route = useRoute()
const router = useRouter()
const unfolded = ref(false) // the whole navigation, on a phone

const here = computed(() => '/' + (route.path.split('/')[1] ?? ''))
const allowed = computed(() => places.filter((p) => !p.role || session.may(p.role)))
const top = computed(() => allowed.value.filter((p) => !p.group))
const grouped = computed(() =>
  Object.entries(groups).map(([key, text]) => ({
    key: key as Group,
    text,
    places: allowed.value.filter((p) => p.group === key),
  })),
)

const remembered = (): Partial<Record<Group, boolean>> => {
  try {
    return JSON.parse(localStorage.getItem('groups') ?? '{}') as Partial<Record<Group, boolean>>
  } catch {
    return {}
  }
}
const open = reactive<Record<Group, boolean>>({
  inventory: true,
  delivery: true,
  assurance: true,
  settings: false,
  ...remembered(),
})
const narrow = matchMedia('(max-width: 767px)')
function only(group: Group) {
  for (const key of Object.keys(open) as Group[]) open[key] = key === group
}
function toggle(group: Group) {
  if (narrow.matches && !open[group]) only(group)
  else open[group] = !open[group]
  if (!narrow.matches) localStorage.setItem('groups', JSON.stringify(open))
}
watch(
  here,
  (path) => {
    const group = places.find((p) => p.path === path)?.group
    if (group && narrow.matches) only(group)
    else if (group) open[group] = true
    unfolded.value = false
  },
  { immediate: true },
)
const current = (p: Place) => (here.value === p.path ? 'page' : undefined)

const others = computed(() =>
  (Object.keys(languages) as Language[]).filter((l) => l !== language.value),
)
const { dark, turn } = useTheme()
async function leave() {
  await session.signOut()
  await router.push('/sign-in')
}
</script>

<template>
  <nav class="rail" :class="{ closed: !unfolded }" aria-label="Main">
    <div class="brand"><img src="/favicon.svg" alt="" /> Wardicon</div>
    <button
      class="menu-button"
      type="button"
      :aria-expanded="unfolded"
      @click="unfolded = !unfolded"
    >
      <IconMenu /> Menu
    </button>
    <button type="button" @click="$emit('search')">
      <IconSearch aria-hidden="true" /> Search <kbd class="ms-auto">/</kbd>
    </button>
    <RouterLink
      v-for="p in top"
      :key="p.path"
      :to="p.path"
      :class="{ here: current(p) }"
      :aria-current="current(p)"
      ><component :is="p.icon" aria-hidden="true" /> {{ say(p.text) }}</RouterLink
    >
    <div v-for="g in grouped" :key="g.key" class="group">
      <button
        type="button"
        class="group-name"
        :aria-expanded="open[g.key]"
        :aria-controls="`group-${g.key}`"
        @click="toggle(g.key)"
      >
        {{ say(g.text) }} <component :is="open[g.key] ? IconOpen : IconClosed" aria-hidden="true" />
      </button>
      <div v-show="open[g.key]" :id="`group-${g.key}`">
        <RouterLink
          v-for="p in g.places"
          :key="p.path"
          :to="p.path"
          :class="{ here: current(p) }"
          :aria-current="current(p)"
          ><component :is="p.icon" aria-hidden="true" /> {{ say(p.text) }}</RouterLink
        >
      </div>
    </div>
    <div class="foot">
      <RouterLink class="who" to="/me" :aria-current="here === '/me' ? 'page' : undefined"
        >{{ session.operator?.name }}, {{ session.operator?.role }}</RouterLink
      >
      <button type="button" @click="turn">
        <IconTheme aria-hidden="true" /> {{ dark ? 'Light' : 'Dark' }} colours
      </button>
      <button
        v-for="l in others"
        :key="l"
        type="button"
        :lang="l"
        :aria-label="`Language: ${languages[l]}`"
        @click="choose(l)"
      >
        <IconLanguage aria-hidden="true" /> {{ languages[l] }}
      </button>
      <button type="button" @click="leave"><IconOut aria-hidden="true" /> Sign out</button>
    </div>
  </nav>
</template>
