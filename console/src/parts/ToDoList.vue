<script setup lang="ts">
// What people have to do after somebody left or something was lost, to be ticked off.
import { ref } from 'vue'
import { api, ask, type Schemas } from '../api/client'
import Notice from './Notice.vue'
import { useSession } from '../api/session'
import { day } from './times'
import { told } from '../told'

const props = defineProps<{ offboarding: Schemas['Offboarding'] }>()
const emit = defineEmits<{ changed: [] }>()
const session = useSession()
const wrong = ref('')
async function tick(item: number, done: boolean) {
  wrong.value = ''
  try {
    const path = { id: props.offboarding.id, item }
    await ask(
      api.POST('/api/v1/offboardings/{id}/items/{item}', { params: { path }, body: { done } }),
    )
    emit('changed')
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
</script>

<template>
  <Notice :text="wrong" />
  <p v-if="offboarding.items.length === 0" class="soft mb-0">Nothing left to do.</p>
  <ul class="plain-list">
    <li v-for="(item, i) in offboarding.items" :key="i" class="mb-1">
      <BFormCheckbox
        :model-value="!!item.done"
        :disabled="!session.may('issuer')"
        @update:model-value="tick(i, !item.done)"
      >
        {{ told(item.what) }}
        <span class="soft">{{
          item.done ? `Done on ${day(item.done)} by ${item.by}.` : told(item.why)
        }}</span>
      </BFormCheckbox>
    </li>
  </ul>
</template>
