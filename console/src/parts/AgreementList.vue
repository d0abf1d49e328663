<script setup lang="ts">
import type { Schemas } from '../api/client'
import { told } from '../told'

defineProps<{ agreements: Schemas['Agreement'][] }>()
</script>

<template>
  <ul class="list-unstyled mb-0">
    <li v-for="a in agreements" :key="a.title">
      {{ a.title }}: <span v-if="a.chosen" class="mono">{{ a.chosen }}</span><template v-else
        >nothing in common.</template
      ><span v-if="a.change" class="soft"> {{ told(a.change) }}</span>
    </li>
  </ul>
</template>
