import { createApp } from 'vue'
import PrimeVue from 'primevue/config'
import ConfirmationService from 'primevue/confirmationservice'
import ToastService from 'primevue/toastservice'
import Tooltip from 'primevue/tooltip'
import 'primeicons/primeicons.css'
import './style.css'
import App from './App.vue'
import { router } from './router'
import { Harbour, applyTheme } from './theme'

declare module 'vue' {
  interface GlobalDirectives {
    vTooltip: typeof Tooltip
  }
}

applyTheme()
createApp(App)
  .use(router)
  .use(PrimeVue, { theme: { preset: Harbour, options: { darkModeSelector: '.dark' } } })
  .use(ToastService)
  .use(ConfirmationService)
  .directive('tooltip', Tooltip)
  .mount('#app')
