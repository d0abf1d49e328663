<script setup lang="ts">
// A link and its passcode, shown once: to be copied, read out, or scanned with the device.
import { ref } from 'vue'
import type { Schemas } from '../api/client'

const props = defineProps<{ made: Schemas['NewHandover'] }>()
const emit = defineEmits<{ hide: [] }>()
const said = ref('')
async function copy(what: string, text: string) {
  try {
    await navigator.clipboard.writeText(text)
    said.value = `${what} copied.`
  } catch {
    said.value = 'This browser does not allow copying.'
  }
}
// The service draws it; only its own picture is in it.
const picture = 'data:image/svg+xml;charset=utf-8,' + encodeURIComponent(drawn(props.made.qr))
function drawn(svg: string) {
  return svg.replace('<svg ', '<svg xmlns="http://www.w3.org/2000/svg" ')
}
</script>

<template>
  <div class="finding note mt-3 made" role="status">
    <img v-if="!made.mailed" :src="picture" alt="The link as a QR code" width="150" height="150" />
    <div>
      <div v-if="made.mailed">The link is sent to {{ made.mailed }}.</div>
      <div v-else>
        Link: <span class="mono">{{ made.link }}</span>
        <button type="button" class="linklike ms-2" @click="copy('Link', made.link)">
          Copy the link
        </button>
      </div>
      <div>
        Passcode, to be sent another way: <span class="mono">{{ made.passcode }}</span>
        <button type="button" class="linklike ms-2" @click="copy('Passcode', made.passcode)">
          Copy the passcode
        </button>
      </div>
      <p class="soft mb-1">
        They cannot be shown again. {{ made.mailed ? '' : 'Scan the code with the device itself.' }}
        {{ said }}
      </p>
      <button type="button" class="linklike" @click="emit('hide')">Hide</button>
    </div>
  </div>
</template>
