<script setup lang="ts">
// Where the provider leads back to in the window in which somebody has proven who they are.
import { onMounted } from 'vue'
import PageHead from '../parts/PageHead.vue'

onMounted(() => {
  const channel = new BroadcastChannel('confirmed')
  channel.postMessage('confirmed')
  channel.close()
  window.close()
})
</script>

<template>
  <PageHead title="Confirmed" />
  <p>You can close this window and go on in the other one.</p>
</template>
