<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { api, ask, seen, type Schemas } from '../api/client'
import Field from '../parts/Field.vue'
import Notice from '../parts/Notice.vue'
import PageHead from '../parts/PageHead.vue'
import { useForm } from '../parts/useForm'

const { draft, wrong, done, busy, fill, run } = useForm({
  name: '',
  domain: '',
  links: '',
  enrol: '',
  links_v4: '',
  links_v6: '',
  factors: false,
  four_eyes: false,
  probe_every: 0 as number | null,
  keep_parcels: 0 as number | null,
})
const loaded = ref(false)
const version = ref(0)
function show(o: Schemas['Organisation']) {
  const { name, domain, links = '', enrol = '', links_v4 = '', links_v6 = '', factors = false } = o
  const { probe_every = 0, keep_parcels = 0, four_eyes = false } = o
  fill({
    name,
    domain,
    links,
    enrol,
    links_v4,
    links_v6,
    factors,
    four_eyes,
    probe_every,
    keep_parcels,
  })
  version.value = o.version
}

onMounted(() =>
  run(async () => {
    show(await ask(api.GET('/api/v1/organisation')))
    loaded.value = true
  }, ''),
)
const numbers = () => ({
  probe_every: Number(draft.probe_every ?? 0),
  keep_parcels: Number(draft.keep_parcels ?? 0),
})
async function save() {
  await run(async () => {
    show(
      await ask(
        api.PUT('/api/v1/organisation', {
          ...seen(version.value),
          body: { ...draft, ...numbers(), version: version.value },
        }),
      ),
    )
  })
}
</script>

<template>
  <PageHead title="Organisation" />
  <Notice v-if="!loaded" :text="wrong" />
  <form v-if="loaded" class="panel" style="max-width: 34rem" novalidate @submit.prevent="save">
    <Field
      v-model="draft.name"
      label="Name"
      pointer="/name"
      required
      help="Shown in profiles and on cards."
    />
    <Field
      v-model="draft.domain"
      label="Domain"
      pointer="/domain"
      required
      :help="
        'Reversed, it is the prefix of the identifiers in Apple profiles. After a change, ' +
        'devices treat rebuilt profiles as new ones.'
      "
    />
    <Field
      v-model="draft.links"
      label="Public URL of this service"
      pointer="/links"
      placeholder="https://connect.skerryline.example"
      help="Links in emails start with it; without one, no links are sent. Passkeys belong to its host name."
    />
    <Field
      v-model="draft.enrol"
      label="URL at which devices renew certificates"
      pointer="/enrol"
      help="For devices that make their keys themselves: an address of its own, by TLS."
    />
    <details class="mb-3" :open="!!(draft.links_v4 || draft.links_v6)">
      <summary>URLs over IPv4 only and IPv6 only</summary>
      <p class="soft mt-2">
        With both, the recipient's page also detects traffic that bypasses the tunnel.
      </p>
      <Field v-model="draft.links_v4" label="URL over IPv4 only" pointer="/links_v4" />
      <Field v-model="draft.links_v6" label="URL over IPv6 only" pointer="/links_v6" />
    </details>
    <Field
      v-model="draft.probe_every"
      kind="number"
      label="Hours between probes of each gateway"
      pointer="/probe_every"
      help="0 means only on request."
    />
    <Field
      v-model="draft.keep_parcels"
      kind="number"
      label="Days until the files of superseded parcels are removed"
      pointer="/keep_parcels"
      help="The record of the parcel and its digest are kept. 0 keeps all files."
    />
    <Field v-model="draft.factors" kind="check" label="Every operator must have a second factor" />
    <Field
      v-model="draft.four_eyes"
      kind="check"
      label="Sensitive actions need the approval of a second operator"
      help="To export a CA's key or a group's archive, to override an error, to change a severity, and to let somebody sign in who could then approve."
    />
    <Notice :text="wrong" /><Notice :text="done" kind="done" />
    <BButton type="submit" variant="primary" class="alters mt-2" :disabled="busy">Save</BButton>
  </form>
</template>
