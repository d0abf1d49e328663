<script setup lang="ts">
import { ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { useSession } from './api/session'
import CommandBar from './parts/CommandBar.vue'
import ConfirmDialog from './parts/ConfirmDialog.vue'
import LeaveDialog from './parts/LeaveDialog.vue'
import Rail from './parts/Rail.vue'
import { useTheme } from './parts/useTheme'

const session = useSession()
const route = useRoute()
const bar = ref<InstanceType<typeof CommandBar>>()
useTheme() // the page to sign in has it too

// What only changes something is not shown to who may not change it; the service refuses it in any
// case.
watch(
  () => session.operator?.role,
  (role) => (document.body.dataset.role = role ?? ''),
  { immediate: true },
)
</script>

<template>
  <a class="skip" href="#main">Skip to the content</a>
  <div v-if="session.operator" class="shell">
    <Rail @search="bar?.show('search')" />
    <main id="main" class="page"><RouterView :key="route.path" /></main>
  </div>
  <main v-else id="main"><RouterView /></main>
  <CommandBar v-if="session.operator" ref="bar" />
  <ConfirmDialog />
  <LeaveDialog />
</template>
