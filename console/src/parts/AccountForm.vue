<script setup lang="ts">
// One account of a person: added, changed, removed.
import { onMounted } from 'vue'
import { api, ask, patch, type Schemas } from '../api/client'
import Field from './Field.vue'
import Notice from './Notice.vue'
import RemoveButton from './RemoveButton.vue'
import { useForm } from './useForm'

const props = defineProps<{
  person: string
  account?: Schemas['AccountRow']
  gateways: { value: string; text: string }[]
}>()
const emit = defineEmits<{ changed: [] }>()
const { draft, errors, wrong, done, busy, fill, run } = useForm({
  login: '',
  realm: '',
  password: '',
  gateway_ids: [] as string[],
})

function show(a?: Schemas['AccountRow']) {
  fill({ login: a?.login ?? '', realm: a?.realm ?? '', password: '', gateway_ids: a?.gateway_ids ?? [] })
}
onMounted(() => show(props.account))

async function save() {
  await run(async () => {
    const { password, ...rest } = draft
    const body = { ...rest, person_id: props.person, ...(password ? { password } : {}) }
    if (props.account)
      await ask(api.PATCH('/api/v1/accounts/{id}', { ...patch(props.account.id, props.account.version), body }))
    else {
      await ask(api.POST('/api/v1/accounts', { body }))
      show()
    }
    draft.password = ''
    emit('changed')
  })
}
const remove = () => ask(api.DELETE('/api/v1/accounts/{id}', { params: { path: { id: props.account!.id } } }))
</script>

<template>
  <form novalidate @submit.prevent="save">
    <div class="columns">
      <Field
        v-model="draft.login"
        label="Login"
        pointer="/login"
        :errors="errors"
        required
        help="As at the gateway, without the realm."
      />
      <Field v-model="draft.realm" label="Realm" pointer="/realm" :errors="errors" help="Empty uses the gateway's." />
      <Field
        v-model="draft.password"
        kind="secret"
        label="Password"
        :makes="75"
        pointer="/password"
        :errors="errors"
        :help="account?.password_set ? 'A password is stored. Leave this empty to keep it.' : 'None is stored.'"
      />
    </div>
    <fieldset v-if="gateways.length > 0" class="mb-2">
      <legend class="form-label fs-6">Valid only at these gateways</legend>
      <BFormCheckboxGroup v-model="draft.gateway_ids" :options="gateways" :name="`gateways-${account?.id ?? 'new'}`" />
      <div class="form-text">None means all.</div>
    </fieldset>
    <Notice :text="wrong" /><Notice :text="done" kind="done" />
    <div class="d-flex flex-wrap gap-2 mt-2">
      <BButton class="alters" type="submit" :variant="account ? 'outline-secondary' : 'primary'" :disabled="busy">{{
        account ? 'Save the account' : 'Add the account'
      }}</BButton>
      <RemoveButton v-if="account" noun="account" :name="account.login" :remove="remove" @removed="emit('changed')" />
    </div>
  </form>
</template>
