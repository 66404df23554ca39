import './nonce'
import './style.css'
import { VueQueryPlugin } from '@tanstack/vue-query'
import { createApp } from 'vue'
import App from './App.vue'
import { noteHeads } from './cards'
import { queries } from './live'
import { router } from './router'
import { themeRead } from './theme'

void themeRead().then(() => {
  createApp(App).use(router).use(VueQueryPlugin, { queryClient: queries }).mount('#app')
  noteHeads(document.body)
})
