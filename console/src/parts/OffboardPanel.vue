<script setup lang="ts">
// Somebody leaves, or a device is lost: what it holds, one step that takes it back, and what people
// have to do.
import { computed, onMounted, ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import Field from './Field.vue'
import Notice from './Notice.vue'
import ToDoList from './ToDoList.vue'
import { useForm } from './useForm'
import { day } from './times'
import { told } from '../told'

const props = defineProps<{ noun: 'person' | 'device'; id: string; name: string }>()
const emit = defineEmits<{ offboarded: [] }>()
const held = ref<Schemas['Holdings']>()
const list = ref<Schemas['Offboarding'][]>([])
const { draft, wrong, busy, run } = useForm({
  why: (props.noun === 'person' ? 'left' : 'lost') as Why,
})
type Why = 'lost' | 'left' | 'retired'
const reasons = [
  { value: 'lost', text: 'lost or stolen' },
  { value: 'left', text: 'person has left' },
  { value: 'retired', text: 'no longer used' },
]
const holds = computed(() => {
  const h = held.value
  if (!h) return []
  const of = (n: number, one: string, many: string) => (n === 1 ? `1 ${one}` : `${n} ${many}`)
  return [
    ['Devices', h.devices.map((d) => d.name)],
    ['Profiles', h.profiles.map((p) => `${p.device} to ${p.gateway}`)],
    ['Open links', h.links.map((l) => `${l.device} to ${l.gateway}, ${l.state}`)],
    ['Certificates', h.certificates.map((c) => `${c.subject}, until ${day(c.to)}`)],
    ['Accounts', h.accounts.map((a) => a.login)],
    [
      'Shared keys',
      h.shared.map(
        (k) =>
          `${k.what} of ${k.gateway}, with ` +
          of(k.others, 'profile of others', 'profiles of others'),
      ),
    ],
  ].filter(([, what]) => (what as string[]).length > 0) as [string, string[]][]
})

async function look() {
  const query = { filter: [`object:${props.id}`], limit: 10 }
  list.value = (await ask(api.GET('/api/v1/offboardings', { params: { query } }))).items
}
onMounted(() => run(look, ''))
async function show() {
  await run(async () => {
    const params = { path: { id: props.id }, query: { why: draft.why } }
    held.value =
      props.noun === 'person'
        ? await ask(api.GET('/api/v1/people/{id}/holdings', { params }))
        : await ask(api.GET('/api/v1/devices/{id}/holdings', { params }))
  }, '')
}
async function go() {
  await run(async () => {
    const sent = { params: { path: { id: props.id } }, body: { why: draft.why } }
    if (props.noun === 'person') await ask(api.POST('/api/v1/people/{id}/offboarding', sent))
    else await ask(api.POST('/api/v1/devices/{id}/offboarding', sent))
    held.value = undefined
    await look()
    emit('offboarded')
  }, '')
}
</script>

<template>
  <section class="panel mb-4" aria-labelledby="offboard">
    <h2 id="offboard">
      {{ noun === 'person' ? 'When the person leaves' : 'When the device is lost' }}
    </h2>
    <div v-for="w in list" :key="w.id" class="mb-3">
      <p class="mb-1">
        <span class="tag" :class="w.open ? 'warning' : 'fine'">{{ w.why }}</span>
        Offboarded on {{ day(w.created) }} by {{ w.operator }}:
        {{ w.recalled === 1 ? '1 link' : `${w.recalled} links` }} closed,
        {{ w.revoked === 1 ? '1 certificate' : `${w.revoked} certificates` }} revoked.
      </p>
      <ToDoList :offboarding="w" @changed="run(look, '')" />
    </div>
    <p class="soft">
      Closes open links, revokes certificates and builds no more parcels; what is left to do is
      listed.
    </p>
    <div class="d-flex flex-wrap gap-3 align-items-end">
      <Field
        v-if="noun === 'device'"
        v-model="draft.why"
        kind="choice"
        label="Why"
        pointer="/why"
        :choices="reasons"
      />
      <BButton variant="outline-secondary" class="mb-3" :disabled="busy" @click="show"
        >Show what it holds</BButton
      >
    </div>
    <Notice :text="wrong" />
    <div v-if="held" role="status">
      <dl class="facts">
        <template v-for="[title, what] in holds" :key="title">
          <dt>{{ title }}</dt>
          <dd>{{ what.join('; ') }}</dd>
        </template>
      </dl>
      <h3>Left to do by people, once it is offboarded</h3>
      <ol>
        <li v-for="i in held.items" :key="i.what">
          {{ told(i.what) }} <span class="soft">{{ told(i.why) }}</span>
        </li>
      </ol>
      <p v-if="held.items.length === 0">Nothing.</p>
      <BButton class="alters" variant="outline-danger" :disabled="busy" @click="go"
        >Offboard {{ name }}</BButton
      >
    </div>
  </section>
</template>
