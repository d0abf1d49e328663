<script setup lang="ts">
// Goes anywhere by the keyboard: pages, actions, and records of every noun by their names. It opens
// with Ctrl-K or with a slash; a question mark shows all keys.
import { computed, nextTick, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, ask, type Schemas } from '../api/client'
import { useSession } from '../api/session'
import { places } from '../places'
import { say } from '../words'

type Found = Schemas['FoundRecord']
interface Target {
  text: string
  kind: string
  to: string
}
const session = useSession()
const router = useRouter()
const open = ref<'' | 'search' | 'keys'>('')
const text = ref('')
const found = ref<Found[]>([])
const wrong = ref('')
const at = ref(0)
const dialog = ref<HTMLDialogElement>()
const input = ref<HTMLInputElement>()

const actions: (Target & { role?: 'issuer' | 'owner' })[] = [
  { text: 'Add a gateway', kind: 'action', to: '/gateways/new', role: 'issuer' },
  { text: 'Add a person', kind: 'action', to: '/people/new', role: 'issuer' },
  { text: 'Add a device', kind: 'action', to: '/devices/new', role: 'issuer' },
  { text: 'Add a pattern', kind: 'action', to: '/patterns/new', role: 'issuer' },
  { text: 'Plan a switchover', kind: 'action', to: '/switchovers/new', role: 'issuer' },
  { text: 'Import a table', kind: 'action', to: '/imports', role: 'issuer' },
  { text: 'Explain a failure', kind: 'action', to: '/explain' },
  { text: 'Your sign-in', kind: 'page', to: '/me' },
]
const paths: Record<string, string> = {
  gateway: '/gateways/',
  person: '/people/',
  device: '/devices/',
  profile: '/profiles/',
  pattern: '/patterns/',
  authority: '/authorities/',
  switchover: '/switchovers/',
}
const fits = (name: string) => say(name).toLowerCase().includes(text.value.trim().toLowerCase())
const targets = computed<Target[]>(() => [
  ...places
    .filter((p) => (!p.role || session.may(p.role)) && fits(p.text))
    .map((p) => ({ text: say(p.text), kind: 'page', to: p.path })),
  ...actions
    .filter((a) => (!a.role || session.may(a.role)) && fits(a.text))
    .map((a) => ({ ...a, text: say(a.text) })),
  ...found.value
    .filter((r) => paths[r.noun])
    .map((r) => ({ text: r.name, kind: r.noun, to: paths[r.noun] + r.id })),
])
const shown = computed(() => targets.value.slice(0, 30))

let timer = 0
let asked = 0
watch(text, (now) => {
  at.value = 0
  clearTimeout(timer)
  const mine = ++asked
  if (now.trim().length < 2) {
    found.value = []
    return
  }
  timer = window.setTimeout(async () => {
    try {
      const query = { text: now.trim() }
      const list = await ask(api.GET('/api/v1/search', { params: { query } }))
      if (mine === asked) found.value = list.items
      wrong.value = ''
    } catch (e) {
      if (mine === asked) wrong.value = (e as Error).message
    }
  }, 150)
})

async function show(what: 'search' | 'keys') {
  open.value = what
  text.value = ''
  found.value = []
  await nextTick()
  if (!dialog.value?.open) dialog.value?.showModal()
  input.value?.focus()
}
function close() {
  dialog.value?.close()
  open.value = ''
}
async function go(t?: Target) {
  if (!t) return
  close()
  await router.push(t.to)
}
function move(by: number) {
  const n = shown.value.length
  if (n) at.value = (at.value + by + n) % n
  void nextTick(() =>
    document.getElementById(`target-${at.value}`)?.scrollIntoView({ block: 'nearest' }),
  )
}

// Letters after "g" go to pages.
const jumps: Record<string, { to: string; text: string }> = {
  o: { to: '/', text: 'Overview' },
  g: { to: '/gateways', text: 'Gateways' },
  p: { to: '/people', text: 'People' },
  d: { to: '/devices', text: 'Devices' },
  r: { to: '/profiles', text: 'Profiles' },
  h: { to: '/handovers', text: 'Handovers' },
  s: { to: '/switchovers', text: 'Switchovers' },
  f: { to: '/findings', text: 'Findings' },
}
let waiting = 0
function typing(e: KeyboardEvent) {
  const on = e.target as HTMLElement
  return on.isContentEditable || ['INPUT', 'TEXTAREA', 'SELECT'].includes(on.tagName)
}
function pressed(e: KeyboardEvent) {
  if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === 'k') {
    e.preventDefault()
    void show('search')
    return
  }
  if (e.ctrlKey || e.metaKey || e.altKey || typing(e) || document.querySelector('dialog[open]'))
    return
  if (waiting && Date.now() - waiting < 1500 && jumps[e.key]) {
    waiting = 0
    e.preventDefault()
    void router.push(jumps[e.key]!.to)
    return
  }
  waiting = e.key === 'g' ? Date.now() : 0
  if (e.key === '/' || e.key === '?') {
    e.preventDefault()
    void show(e.key === '/' ? 'search' : 'keys')
  }
}
onMounted(() => document.addEventListener('keydown', pressed))
onBeforeUnmount(() => {
  document.removeEventListener('keydown', pressed)
  clearTimeout(timer)
})
defineExpose({ show })
</script>

<template>
  <dialog
    v-if="open"
    ref="dialog"
    class="panel bar"
    :aria-label="open === 'keys' ? 'Keyboard shortcuts' : 'Search'"
    @cancel.prevent="close"
    @click.self="close"
  >
    <template v-if="open === 'search'">
      <input
        ref="input"
        v-model="text"
        class="form-control"
        type="search"
        role="combobox"
        aria-label="Search for pages, actions and records"
        aria-expanded="true"
        aria-controls="targets"
        :aria-activedescendant="shown.length ? `target-${at}` : undefined"
        autocomplete="off"
        spellcheck="false"
        placeholder="Name of a page, an action or a record"
        @keydown.down.prevent="move(1)"
        @keydown.up.prevent="move(-1)"
        @keydown.enter.prevent="go(shown[at])"
      />
      <p v-if="wrong" class="text-danger mt-2 mb-0">{{ wrong }}</p>
      <ul id="targets" role="listbox" aria-label="Results">
        <li
          v-for="(t, i) in shown"
          :id="`target-${i}`"
          :key="t.kind + t.to"
          role="option"
          :aria-selected="i === at"
          :class="{ at: i === at }"
          @click="go(t)"
        >
          <span>{{ t.text }}</span><span class="soft small">{{ t.kind }}</span>
        </li>
      </ul>
      <p v-if="shown.length === 0" class="soft mb-0 mt-2">No matches.</p>
    </template>
    <template v-else>
      <h2>Keyboard shortcuts</h2>
      <dl class="keys">
        <dt><kbd>Ctrl</kbd> <kbd>K</kbd> or <kbd>/</kbd></dt>
        <dd>Search for pages, actions and records</dd>
        <dt><kbd>?</kbd></dt>
        <dd>Show this list</dd>
        <template v-for="(j, key) in jumps" :key="key">
          <dt>
            <kbd>g</kbd> <kbd>{{ key }}</kbd>
          </dt>
          <dd>{{ j.text }}</dd>
        </template>
        <dt><kbd>Esc</kbd></dt>
        <dd>Close what is open</dd>
      </dl>
      <BButton size="sm" variant="outline-secondary" @click="close">Close</BButton>
    </template>
  </dialog>
</template>

<style scoped>
.bar {
  width: min(38rem, calc(100vw - 2rem));
  margin-top: 10vh;
  padding: 1rem;
  color: inherit;
}
.bar::backdrop {
  background: rgb(0 0 0 / 45%);
}
.bar ul {
  list-style: none;
  margin: 0.75rem 0 0;
  padding: 0;
  max-height: 55vh;
  overflow-y: auto;
}
.bar li {
  display: flex;
  justify-content: space-between;
  gap: 1rem;
  padding: 0.35rem 0.6rem;
  border-radius: 0.35rem;
  cursor: pointer;
  overflow-wrap: anywhere;
}
.bar li.at {
  background: var(--wi-tint);
  outline: 2px solid var(--wi-line);
}
.keys {
  display: grid;
  grid-template-columns: auto 1fr;
  gap: 0.3rem 1.2rem;
}
.keys dd {
  margin: 0;
}
</style>
