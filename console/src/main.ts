import { createBootstrap } from 'bootstrap-vue-next'
import { createPinia } from 'pinia'
import { createApp } from 'vue'
import { confirming } from './api/confirm'
import App from './App.vue'
import { router } from './router'
import { each, say, speak } from './words'
import 'bootstrap/dist/css/bootstrap.min.css'
import 'bootstrap-vue-next/dist/bootstrap-vue-next.css'
import './look.css'

confirming()
await speak()
const app = createApp(App)
Object.assign(app.config.globalProperties, { $say: say, $each: each })
app.use(createPinia()).use(router).use(createBootstrap()).mount('#app')
