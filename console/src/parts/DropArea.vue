<script setup lang="ts">
// A place to drop files on, or to choose them at.
import { ref } from 'vue'

defineProps<{ id: string; multiple?: boolean; accept?: string }>()
const emit = defineEmits<{ files: [list: File[]] }>()
const over = ref(false)
function take(list: FileList | null | undefined) {
  over.value = false
  if (list?.length) emit('files', [...list])
}
</script>

<template>
  <div
    class="drop panel mb-3"
    :class="{ over }"
    @dragover.prevent="over = true"
    @dragleave="over = false"
    @drop.prevent="take($event.dataTransfer?.files)"
  >
    <input
      :id="id"
      class="visually-hidden"
      type="file"
      :multiple="multiple"
      :accept="accept"
      @change="take(($event.target as HTMLInputElement).files)"
    />
    <label :for="id" class="mb-0"><slot /></label>
  </div>
</template>

<style scoped>
.drop {
  border-style: dashed;
  text-align: center;
  padding: 2rem;
}
.drop.over,
.drop:focus-within {
  outline: 3px solid var(--bs-link-color);
}
.drop label {
  cursor: pointer;
}
.drop :slotted(.pick) {
  color: var(--wi-deep);
  text-decoration: underline;
}
</style>
