<script setup lang="ts">
// One operator in the list: another role, disabled or enabled, a new first password, gone.
import { ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import ConfinementFields from './ConfinementFields.vue'
import Field from './Field.vue'
import Notice from './Notice.vue'
import RemoveButton from './RemoveButton.vue'
import { roles } from './roles'
import { useForm } from './useForm'
import { moment } from './times'

const props = defineProps<{ operator: Schemas['Operator'] }>()
const emit = defineEmits<{ changed: []; reset: [Schemas['NewOperator']] }>()
const changing = ref(false)
const { draft, wrong, busy, run } = useForm({
  role: props.operator.role as string,
  disabled: false,
  confined: { groups: [] as string[], gateways: [] as string[] },
})
const params = { path: { id: props.operator.id } }

function begin() {
  draft.role = props.operator.role
  draft.disabled = props.operator.disabled
  const { groups = [], gateways = [] } = props.operator.confined ?? {}
  draft.confined = { groups: [...groups], gateways: [...gateways] }
  changing.value = true
}
async function save() {
  await run(async () => {
    const confined = draft.role === 'issuer' ? draft.confined : { groups: [], gateways: [] }
    await ask(api.PUT('/api/v1/operators/{id}', { params, body: { ...draft, confined } }))
    changing.value = false
    emit('changed')
  }, '')
}
async function reset() {
  await run(async () => {
    emit('reset', await ask(api.POST('/api/v1/operators/{id}/reset', { params })))
    changing.value = false
  }, '')
}
const remove = () => ask(api.DELETE('/api/v1/operators/{id}', { params }))
const state = (o: Schemas['Operator']) =>
  o.disabled ? 'disabled' : o.must_change ? 'must change the password' : 'can sign in'
</script>

<template>
  <tr>
    <td>{{ operator.name }}</td>
    <td data-label="Role">
      {{ operator.role }}
      <template v-if="operator.confined">
        <span class="tag plain mx-1">confined</span>
        <span class="small">{{ operator.confined.groups.join(', ') }}</span>
      </template>
    </td>
    <td data-label="State">{{ state(operator) }}</td>
    <td data-label="Second factor">
      {{
        operator.provider
          ? 'at the identity provider'
          : operator.second_factor || operator.passkeys
            ? 'on'
            : 'off'
      }}
    </td>
    <td data-label="Last sign-in">
      {{ operator.signed_in ? moment(operator.signed_in) : 'never' }}
    </td>
    <td>
      <BButton
        size="sm"
        variant="outline-secondary"
        :aria-label="`Change ${operator.name}`"
        @click="begin"
        >Change…</BButton
      >
      <BModal
        v-model="changing"
        :title="`Change ${operator.name}`"
        title-tag="h2"
        no-footer
        lazy
        teleport-to="body"
      >
        <form novalidate @submit.prevent="save">
          <Field v-model="draft.role" kind="choice" label="Role" pointer="/role" :choices="roles" />
          <ConfinementFields
            v-if="draft.role === 'issuer'"
            v-model="draft.confined"
            :of="operator.id"
          />
          <Field v-model="draft.disabled" kind="check" label="Disabled: cannot sign in" />
          <p class="soft small">Sessions and tokens of {{ operator.name }} end.</p>
          <Notice :text="wrong" />
          <div class="d-flex flex-wrap gap-2 mt-3">
            <BButton class="alters" type="submit" variant="primary" :disabled="busy">Save</BButton>
            <BButton type="button" variant="outline-secondary" :disabled="busy" @click="reset"
              >Reset password</BButton
            >
            <RemoveButton
              noun="operator"
              :name="operator.name"
              :remove="remove"
              @removed="emit('changed')"
            />
          </div>
        </form>
      </BModal>
    </td>
  </tr>
</template>
