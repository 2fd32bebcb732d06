<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import Button from 'primevue/button'
import ConfirmPopup from 'primevue/confirmpopup'
import Toast from 'primevue/toast'
import FailureNote from './parts/FailureNote.vue'
import JobTray from './parts/JobTray.vue'
import { toggleTheme, isDark } from './theme'
import { useKeyboard } from './parts/keyboard'
import { api } from './api/client'
import { useAction } from './api/action'
import { useQuery } from './api/query'

const route = useRoute()
const name = computed(() => (typeof route.params.name === 'string' ? route.params.name : null))
const at = (tail: string) => `/c/${encodeURIComponent(name.value ?? '')}${tail}`
/** The pages of a collection, in the order of the work. */
const PAGES = ['load', 'records', 'fields', 'search', 'saved', 'indexes', 'advice', 'queries', 'tuning', 'compare', 'lens', 'map', 'watch']
const dark = ref(isDark())
function toggle() {
  toggleTheme()
  dark.value = isDark()
}
const service = useQuery(() => 0, api.service)
useKeyboard()
const signOut = useAction(async () => {
  await api.signOut()
  location.assign('/')
})
</script>

<template>
  <div class="shell">
    <header>
      <RouterLink to="/" class="brand"><img src="/lantern.svg" alt="" width="20" height="20" /> Zesty Lantern</RouterLink>
      <nav aria-label="Main">
        <RouterLink to="/" exact-active-class="on">Collections</RouterLink>
        <template v-if="name">
          <span class="soft" aria-hidden="true">/</span>
          <RouterLink :to="at('')" exact-active-class="on" data-nav="collection">{{ name }}</RouterLink>
        </template>
      </nav>
      <span class="fill" />
      <JobTray />
      <RouterLink to="/pulse" active-class="on" class="side">Pulse</RouterLink>
      <RouterLink to="/keys" active-class="on" class="side">Keys</RouterLink>
      <RouterLink to="/reference" active-class="on" class="side">API</RouterLink>
      <Button v-tooltip.bottom="dark ? 'Light theme' : 'Dark theme'" text size="small" :icon="dark ? 'pi pi-sun' : 'pi pi-moon'" :aria-label="dark ? 'Light theme' : 'Dark theme'" @click="toggle" />
      <Button v-tooltip.bottom="'Sign this browser out'" text size="small" icon="pi pi-sign-out" aria-label="Sign this browser out" :loading="signOut.busy.value" @click="signOut.run()" />
    </header>
    <nav v-if="name" class="inside" aria-label="Collection">
      <RouterLink v-for="page in PAGES" :key="page" :to="at(`/${page}`)" active-class="on" :data-nav="page">{{ page[0]?.toUpperCase() }}{{ page.slice(1) }}</RouterLink>
    </nav>
    <main>
      <FailureNote v-if="signOut.failure.value" :failure="signOut.failure.value" @retry="signOut.run()" />
      <RouterView :key="name ?? route.path" />
    </main>
    <footer class="soft">Zesty Lantern {{ service.data.value?.version }} · <kbd>/</kbd> query box · <kbd>Enter</kbd> search · <kbd>n</kbd> <kbd>p</kbd> next and previous page</footer>
    <Toast position="bottom-right" />
    <ConfirmPopup />
  </div>
</template>

<style scoped>
.shell { min-height: 100vh; display: flex; flex-direction: column; }
header { display: flex; align-items: center; gap: 0.5rem; padding: 0.35rem 1.1rem; background: var(--sheet); border-bottom: 1px solid var(--line); }
.brand { display: inline-flex; gap: 0.45rem; align-items: center; font-weight: 650; color: var(--ink); margin-right: 0.6rem; white-space: nowrap; }
nav { display: flex; gap: 0.2rem; align-items: center; }
nav.inside { padding: 0.2rem 0.7rem; background: var(--sheet); border-bottom: 1px solid var(--line); flex-wrap: wrap; }
nav a, .side { white-space: nowrap; padding: 0.25rem 0.45rem; border-radius: 4px; color: var(--soft); }
nav a.on, .side.on { color: var(--ink); background: var(--tint); font-weight: 550; }
.fill { flex: 1; }
main { flex: 1; padding: 1.1rem; max-width: 1440px; width: 100%; margin: 0 auto; }
footer { padding: 0.5rem 1.1rem; font-size: 0.86em; }
</style>
