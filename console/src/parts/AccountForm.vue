<script setup lang="ts">
// One account of a person: added, changed, removed.
import { onMounted } from 'vue'
import type { Schemas } from '../api/client'
import { accounts } from '../nouns/accounts'
import Field from './Field.vue'
import RecordForm from './RecordForm.vue'
import RemoveButton from './RemoveButton.vue'
import { useForm } from './useForm'

const props = defineProps<{
  person: string
  account?: Schemas['AccountRow']
  gateways: { value: string; text: string }[]
}>()
const emit = defineEmits<{ changed: [] }>()
const form = useForm(
  { login: '', realm: '', password: '', gateway_ids: [] as string[] },
  accounts.noun,
)
const { draft, fill, run } = form

function show(a?: Schemas['AccountRow']) {
  const { login = '', realm = '', gateway_ids = [] } = a ?? {}
  fill({ login, realm, password: '', gateway_ids })
}
onMounted(() => show(props.account))

async function save() {
  await run(async () => {
    const { password, ...rest } = draft
    const body = { ...rest, person_id: props.person, ...(password ? { password } : {}) }
    if (props.account) await accounts.change(props.account.id, props.account.version, body)
    else {
      await accounts.add(body)
      show()
    }
    draft.password = ''
    emit('changed')
  })
}
const remove = () => accounts.remove(props.account!.id)
</script>

<template>
  <RecordForm
    :form="form"
    :button="account ? 'Save the account' : 'Add the account'"
    :quiet="!!account"
    @save="save"
  >
    <div class="columns">
      <Field
        v-model="draft.login"
        label="Login"
        pointer="/login"
        required
        help="As at the gateway, without the realm."
      />
      <Field
        v-model="draft.realm"
        label="Realm"
        pointer="/realm"
        help="Empty uses the gateway's."
      />
      <Field
        v-model="draft.password"
        kind="secret"
        label="Password"
        :makes="75"
        pointer="/password"
        :help="
          account?.password_set
            ? 'A password is stored. Leave this empty to keep it.'
            : 'None is stored.'
        "
      />
    </div>
    <fieldset v-if="gateways.length > 0" class="mb-2">
      <legend class="form-label fs-6">Valid only at these gateways</legend>
      <BFormCheckboxGroup
        v-model="draft.gateway_ids"
        :options="gateways"
        :name="`gateways-${account?.id ?? 'new'}`"
      />
      <div class="form-text">None means all.</div>
    </fieldset>
    <template #more>
      <RemoveButton
        v-if="account"
        noun="account"
        :name="account.login"
        :remove="remove"
        @removed="emit('changed')"
      />
    </template>
  </RecordForm>
</template>
