// Dark or light: as chosen, else as the system has it.
import { ref, watch } from 'vue'

const chosen = localStorage.getItem('theme')
const dark = ref(chosen ? chosen === 'dark' : matchMedia('(prefers-color-scheme: dark)').matches)
watch(dark, (on) => document.documentElement.setAttribute('data-bs-theme', on ? 'dark' : 'light'), {
  immediate: true,
})

export function useTheme() {
  const turn = () => {
    dark.value = !dark.value
    localStorage.setItem('theme', dark.value ? 'dark' : 'light')
  }
  return { dark, turn }
}
