<script setup lang="ts">
// Title of a page: it names the window too, and takes the focus when the page opens.
import { onMounted, ref, watch } from 'vue'

const props = defineProps<{ title: string; back?: string; backText?: string }>()
const head = ref<HTMLElement>()
watch(
  () => props.title,
  (t) => (document.title = t ? `${t} · Wardicon` : 'Wardicon'),
  { immediate: true },
)
onMounted(() => head.value?.focus({ preventScroll: true }))
</script>

<template>
  <header class="mb-3">
    <RouterLink v-if="back" :to="back" class="soft small">← {{ backText }}</RouterLink>
    <div class="d-flex flex-wrap align-items-center gap-3">
      <h1 ref="head" tabindex="-1" class="mb-0">{{ title }}</h1>
      <slot />
    </div>
  </header>
</template>
