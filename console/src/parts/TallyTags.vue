<script setup lang="ts">
import { computed } from 'vue'
import type { Tally } from '../api/client'

const props = withDefaults(defineProps<{ tally: Tally; checked?: boolean }>(), { checked: true })
const parts = computed(() =>
  [
    { kind: 'blocker', n: props.tally.blockers, text: props.tally.blockers === 1 ? 'blocker' : 'blockers' },
    { kind: 'warning', n: props.tally.warnings, text: props.tally.warnings === 1 ? 'warning' : 'warnings' },
    { kind: 'advice', n: props.tally.advice, text: 'advice' },
  ].filter((p) => p.n > 0),
)
</script>

<template>
  <span v-if="!checked" class="tag plain">being checked</span>
  <span v-else-if="parts.length === 0" class="tag fine">nothing found</span>
  <span v-else class="d-inline-flex flex-wrap gap-1"
    ><span v-for="p in parts" :key="p.kind" class="tag" :class="p.kind">{{ p.n }} {{ p.text }}</span></span
  >
</template>
