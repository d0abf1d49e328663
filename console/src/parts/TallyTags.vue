<script setup lang="ts">
import { computed } from 'vue'
import type { Tally } from '../api/client'
import { count } from '../words'

const props = withDefaults(defineProps<{ tally: Tally; checked?: boolean }>(), { checked: true })
const parts = computed(() =>
  [
    { kind: 'error', n: props.tally.errors },
    { kind: 'warning', n: props.tally.warnings },
    { kind: 'note', n: props.tally.notes },
  ].filter((p) => p.n > 0),
)
</script>

<template>
  <span v-if="!checked" class="tag plain">check pending</span>
  <span v-else-if="parts.length === 0" class="tag fine">no findings</span>
  <span v-else class="d-inline-flex flex-wrap gap-1"
    ><span v-for="p in parts" :key="p.kind" class="tag" :class="p.kind">{{
      count(p.n, p.kind, `${p.kind}s`)
    }}</span></span
  >
</template>
