<script setup lang="ts">
// Where other services are told what happens.
import { onMounted, ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import Field from './Field.vue'
import Notice from './Notice.vue'
import RemoveButton from './RemoveButton.vue'
import { useForm } from './useForm'

const hooks = ref<Schemas['Webhook'][]>([])
const made = ref<Schemas['NewWebhook']>()
const adding = ref(false)
const { draft, wrong, done, busy, run } = useForm({ name: '', url: '', events: [] as string[] })

async function look() {
  hooks.value = (await ask(api.GET('/api/v1/webhooks'))).items
}
onMounted(() => run(look, ''))
async function add() {
  await run(async () => {
    const body = { ...draft, untested: false } as never
    made.value = await ask(api.POST('/api/v1/webhooks', { body }))
    adding.value = false
    await look()
  }, 'Added. The test delivery was accepted.')
}
async function set(h: Schemas['Webhook'], disabled: boolean) {
  await run(async () => {
    const params = { path: { id: h.id } }
    const body = { events: h.events, disabled }
    await ask(api.PUT('/api/v1/webhooks/{id}', { params, body }))
    await look()
  })
}
async function test(h: Schemas['Webhook']) {
  const params = { path: { id: h.id } }
  await run(
    () => ask(api.POST('/api/v1/webhooks/{id}/tries', { params })).then(() => {}),
    'The test delivery was accepted.',
  )
}
const remove = (h: Schemas['Webhook']) => () =>
  ask(api.DELETE('/api/v1/webhooks/{id}', { params: { path: { id: h.id } } })).then(() => {})
</script>

<template>
  <section class="panel mt-4" aria-labelledby="webhooks">
    <h2 id="webhooks">Webhooks</h2>
    <p class="soft">
      Webhooks notify other services of handovers, reports, findings, rehearsals, certificates and
      switchovers. Deliveries are signed, and retried until they are accepted.
    </p>
    <Notice :text="wrong" /><Notice :text="done" kind="done" />
    <div v-if="made" class="finding note mb-3" role="status">
      Signing key of {{ made.name }}: <span class="mono">{{ made.key }}</span>. It is not shown
      again.
      <button type="button" class="linklike" @click="made = undefined">Hide</button>
    </div>
    <table v-if="hooks.length" class="grid-table stack mb-3">
      <thead>
        <tr>
          <th scope="col">Name</th>
          <th scope="col">Events</th>
          <th scope="col">State</th>
          <th scope="col"><span class="visually-hidden">Actions</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="h in hooks" :key="h.id">
          <td data-label="Name">
            {{ h.name }}
            <div class="soft small">{{ h.url }}</div>
          </td>
          <td data-label="Events">{{ h.events.join(', ') }}</td>
          <td data-label="State">
            <span v-if="h.disabled" class="tag">off</span>
            <span v-else-if="h.problem" class="tag error">{{ h.problem }}</span>
            <span v-else class="tag fine">fine</span>
            <div v-if="h.waiting" class="soft small">{{ h.waiting }} waiting</div>
          </td>
          <td class="number">
            <BButton size="sm" variant="outline-secondary" :disabled="busy" @click="test(h)"
              >Test</BButton
            >
            <BButton
              size="sm"
              variant="outline-secondary"
              class="mx-1"
              :disabled="busy"
              @click="set(h, !h.disabled)"
              >{{ h.disabled ? 'Turn on' : 'Turn off' }}</BButton
            >
            <RemoveButton
              size="sm"
              noun="webhook"
              :name="h.name"
              :remove="remove(h)"
              @removed="look"
            />
          </td>
        </tr>
      </tbody>
    </table>
    <form v-if="adding" novalidate @submit.prevent="add">
      <div class="columns">
        <Field v-model="draft.name" label="Name of the webhook" pointer="/name" required />
        <Field
          v-model="draft.url"
          label="Address"
          pointer="/url"
          placeholder="https://tickets.skerryline.example/vpn"
          required
        />
        <Field
          v-model="draft.events"
          kind="list"
          label="Events, one per line"
          pointer="/events"
          help="Such as report.received, profile.blocked or certificate.expiring."
        />
      </div>
      <BButton type="submit" size="sm" variant="primary" :disabled="busy">Test and add</BButton>
      <BButton size="sm" variant="link" @click="adding = false">Cancel</BButton>
    </form>
    <BButton v-else size="sm" variant="outline-secondary" @click="adding = true"
      >Add a webhook</BButton
    >
  </section>
</template>
