<script setup lang="ts">
// Asks before it removes.
import { ref } from 'vue'
import Notice from './Notice.vue'

const props = defineProps<{
  noun: string
  name: string
  remove: () => Promise<unknown>
  size?: 'sm'
}>()
const emit = defineEmits<{ removed: [] }>()
const asking = ref(false)
const wrong = ref('')

async function go() {
  try {
    await props.remove()
    asking.value = false
    emit('removed')
  } catch (e) {
    wrong.value = (e as Error).message
  }
}
</script>

<template>
  <BButton
    class="alters"
    variant="outline-danger"
    :size="size"
    type="button"
    @click="((asking = true), (wrong = ''))"
    >Remove the {{ noun }}</BButton
  >
  <BModal v-model="asking" :title="`Remove ${name}?`" title-tag="h2" no-footer lazy>
    <p>The {{ noun }} and what is stored with it are deleted permanently.</p>
    <Notice :text="wrong" />
    <div class="d-flex gap-2 justify-content-end mt-3">
      <BButton variant="outline-secondary" @click="asking = false">Cancel</BButton>
      <BButton class="alters" variant="outline-danger" @click="go">Remove</BButton>
    </div>
  </BModal>
</template>
