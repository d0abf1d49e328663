<script setup lang="ts">
// A moment as one speaks of it; which one it is exactly is said on hover.
import { computed } from 'vue'
import { now, relative } from './times'

const props = defineProps<{ at: string }>()
const text = computed(() => relative(props.at, now.value))
const exact = computed(() => new Date(props.at).toLocaleString())
</script>

<template>
  <time :datetime="at" :title="exact" class="text-nowrap">{{ text }}</time>
</template>
