import vue from '@vitejs/plugin-vue'
import { BootstrapVueNextResolver } from 'bootstrap-vue-next/resolvers'
import Icons from 'unplugin-icons/vite'
import Components from 'unplugin-vue-components/vite'
import { defineConfig } from 'vite'
import { speaking } from './words.mjs'

// The service serves the console; during development it is asked for the API.
export default defineConfig({
  plugins: [
    vue({ template: { compilerOptions: { nodeTransforms: [speaking()] } } }),
    Components({ resolvers: [BootstrapVueNextResolver()], dirs: [], dts: true }),
    Icons({ compiler: 'vue3' }),
  ],
  build: { outDir: 'dist', emptyOutDir: false, sourcemap: false },
  server: { proxy: { '/api': 'http://127.0.0.1:7480' } },
})
