<script setup lang="ts">
// Asks before a page is left on which something was typed and not saved.
import { nextTick, ref, watch } from 'vue'
import { leaving } from './unsaved'

const dialog = ref<HTMLDialogElement>()
watch(leaving, async (question) => {
  if (!question) return
  await nextTick()
  dialog.value?.showModal()
})
function end(go: boolean) {
  dialog.value?.close()
  leaving.value?.(go)
}
</script>

<template>
  <dialog
    v-if="leaving"
    ref="dialog"
    class="panel ask"
    aria-labelledby="leave"
    @cancel.prevent="end(false)"
  >
    <h2 id="leave">Leave without saving?</h2>
    <p class="soft">What you have typed on this page is not saved.</p>
    <div class="d-flex flex-wrap gap-2">
      <BButton variant="primary" @click="end(false)">Stay</BButton>
      <BButton variant="outline-secondary" @click="end(true)">Leave</BButton>
    </div>
  </dialog>
</template>
