<script setup lang="ts">
// Says what went wrong or right; it is read out when it appears.
import { say } from '../words'

defineProps<{ text: string; kind?: 'error' | 'done' }>()
</script>

<template>
  <div role="status" aria-live="polite">
    <div v-if="text" class="finding" :class="kind === 'done' ? 'note' : 'error'">
      {{ say(text) }}
    </div>
  </div>
</template>
