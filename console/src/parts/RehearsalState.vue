<script setup lang="ts">
// What a rehearsal came to.
import type { Schemas } from '../api/client'
import { say } from '../words'

defineProps<{ state: Schemas['Rehearsal']['state'] }>()
const looks = { passed: 'fine', failed: 'error', running: 'plain', stopped: 'plain' }
</script>

<template>
  <span class="tag" :class="looks[state]">{{ say(state) }}</span>
</template>
