<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, ask, type Schemas } from '../../api/client'
import { authorities } from '../../nouns/authorities'
import ChainView from '../../parts/ChainView.vue'
import RolloverPanel from '../../parts/RolloverPanel.vue'
import ExportPanel from '../../parts/ExportPanel.vue'
import Field from '../../parts/Field.vue'
import Notice from '../../parts/Notice.vue'
import PageHead from '../../parts/PageHead.vue'
import RecordForm from '../../parts/RecordForm.vue'
import RemoveButton from '../../parts/RemoveButton.vue'
import { save as saveFile } from '../../parts/files'
import { useRecord } from '../../parts/useRecord'
import { count } from '../../words'

const props = defineProps<{ id: string }>()
const router = useRouter()
const chain = ref<Schemas['Chain']>()
const { form, draft, row, wrong, reload, save, remove } = useRecord({
  of: authorities,
  id: () => props.id,
  empty: {
    name: '',
    device_days: 0,
    gateway_days: 0,
    renew_days: 0,
    device_limit: 0,
    day_limit: 0,
    lists: [] as string[],
    deltas: [] as string[],
    responders: [] as string[],
    key_uri: '',
    retired: false,
    note: '',
  },
  draftOf: (a) => ({
    name: a.name,
    device_days: a.device_days ?? 0,
    gateway_days: a.gateway_days ?? 0,
    renew_days: a.renew_days ?? 0,
    device_limit: a.device_limit ?? 0,
    day_limit: a.day_limit ?? 0,
    lists: a.lists ?? [],
    deltas: a.deltas ?? [],
    responders: a.responders ?? [],
    key_uri: a.key_uri ?? '',
    retired: !!a.retired,
    note: a.note ?? '',
  }),
  body: (typed) => ({ ...typed }),
  loaded: draw,
})
const issued = computed(() => count(row.value?.certificates ?? 0, 'certificate', 'certificates'))
async function draw() {
  const path = { noun: 'authority' as const, id: props.id }
  chain.value = await ask(api.GET('/api/v1/chains/{noun}/{id}', { params: { path } }))
}
async function look() {
  await reload()
  await draw()
}
</script>

<template>
  <PageHead :title="row?.name ?? 'Authority'" back="/authorities" back-text="Authorities">
    <BButton
      v-if="row"
      size="sm"
      variant="outline-secondary"
      @click="saveFile(row.name + '.pem', row.certificate, true)"
      >Download certificate</BButton
    >
    <BButton
      v-if="row"
      size="sm"
      variant="outline-secondary"
      :to="`/certificates?authority_id=${id}`"
      >{{ issued }}</BButton
    >
  </PageHead>
  <Notice v-if="!row" :text="wrong" />
  <template v-else>
    <div class="columns">
      <section class="panel mb-4" aria-labelledby="chain">
        <h2 id="chain">Chain</h2>
        <ChainView v-if="chain" :links="chain.links" />
        <p v-if="row.key_uri" class="soft mt-2 mb-0">
          Its private key is in a token and does not leave it: <code>{{ row.key_uri }}</code>
        </p>
        <template v-if="row.key_set">
          <h3 class="h6 mt-3">Revocation lists</h3>
          <p class="soft small mb-1">Served without sign-in, signed again every hour.</p>
          <ul class="mb-0">
            <li>
              <a :href="`/lists/${row.id}.crl`" download>CRL</a>
            </li>
            <li>
              <a :href="`/lists/${row.id}.delta.crl`" download>delta CRL of the last seven days</a>
            </li>
          </ul>
        </template>
        <p v-else class="soft mb-0">
          Its key is kept elsewhere: create the signing requests on the devices' pages.
        </p>
      </section>
      <RolloverPanel :authority="row" @changed="look" />
    </div>
    <RecordForm class="panel mb-4" :form="form" button="Save" @save="save">
      <h2>Settings</h2>
      <Field v-model="draft.name" label="Name" pointer="/name" required />
      <div class="columns">
        <Field
          v-model="draft.device_days"
          kind="number"
          label="Validity of device certificates in days"
          pointer="/device_days"
          described
        />
        <Field
          v-model="draft.gateway_days"
          kind="number"
          label="Validity of gateway certificates in days"
          pointer="/gateway_days"
          described
        />
        <Field
          v-model="draft.renew_days"
          kind="number"
          label="Days before expiry when devices get a new one"
          pointer="/renew_days"
          described
        />
        <Field
          v-model="draft.device_limit"
          kind="number"
          label="Maximum valid certificates per device"
          pointer="/device_limit"
          described
        />
        <Field
          v-model="draft.day_limit"
          kind="number"
          label="Maximum certificates per day"
          pointer="/day_limit"
          described
        />
        <Field
          v-model="draft.lists"
          kind="list"
          label="URLs of its CRL"
          pointer="/lists"
          described
        />
        <Field
          v-model="draft.deltas"
          kind="list"
          label="URLs of its delta CRL"
          pointer="/deltas"
          described
        />
        <Field
          v-model="draft.responders"
          kind="list"
          label="URLs of its OCSP responder"
          pointer="/responders"
          described
        />
        <Field
          v-if="row.key_uri || !row.key_set"
          v-model="draft.key_uri"
          label="Private key in a token"
          pointer="/key_uri"
          help="PKCS #11 URI, such as pkcs11:token=Quay;object=devices"
        />
        <Field v-model="draft.note" kind="note" label="Note" pointer="/note" />
      </div>
      <Field
        v-model="draft.retired"
        kind="check"
        label="Retired: still trusted, but issues no more"
      />
      <template #more>
        <RemoveButton
          noun="authority"
          :name="row.name"
          :remove="remove"
          @removed="router.push('/authorities')"
        />
      </template>
    </RecordForm>
    <ExportPanel v-if="row.key_set && !row.key_uri" :authority="row" />
  </template>
</template>
