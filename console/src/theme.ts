/** Our theme: slate paper and ink, lamp yellow for what serves, teal exact, amber approximate. */

import { definePreset } from '@primeuix/themes'
import Aura from '@primeuix/themes/aura'

const harbour = {
  50: '#eef4f6', 100: '#d6e4e9', 200: '#b0cbd4', 300: '#83acb9', 400: '#578b9c', 500: '#3a7083',
  600: '#2c5b6c', 700: '#244a58', 800: '#1d3b47', 900: '#162d37', 950: '#0d1d24',
}
const slate = {
  0: '#ffffff', 50: '#f7f7f4', 100: '#edede8', 200: '#dcdcd5', 300: '#c3c4bc', 400: '#9a9c95', 500: '#747772',
  600: '#565a57', 700: '#3e4341', 800: '#282d2d', 900: '#1a1f20', 950: '#111516',
}

export const Harbour = definePreset(Aura, {
  primitive: { borderRadius: { none: '0', xs: '2px', sm: '3px', md: '4px', lg: '5px', xl: '6px' } },
  semantic: {
    primary: harbour,
    formField: { paddingX: '0.6rem', paddingY: '0.36rem' },
    colorScheme: {
      light: {
        surface: slate,
        primary: { color: '{primary.600}', contrastColor: '#ffffff', hoverColor: '{primary.700}', activeColor: '{primary.800}' },
      },
      dark: {
        surface: slate,
        primary: { color: '{primary.300}', contrastColor: '{primary.950}', hoverColor: '{primary.200}', activeColor: '{primary.100}' },
      },
    },
  },
  // Tables stand flush with the text around them.
  components: {
    datatable: {
      headerCell: { sm: { padding: '0.3rem 0.6rem 0.3rem 0' } },
      bodyCell: { sm: { padding: '0.36rem 0.6rem 0.36rem 0' } },
      footerCell: { sm: { padding: '0.36rem 0.6rem 0.36rem 0' } },
    },
  },
})

const key = 'zesty-theme'
export const isDark = () => document.documentElement.classList.contains('dark')

export function applyTheme() {
  const kept = localStorage.getItem(key)
  const dark = kept ? kept === 'dark' : matchMedia('(prefers-color-scheme: dark)').matches
  document.documentElement.classList.toggle('dark', dark)
}

export function toggleTheme() {
  localStorage.setItem(key, isDark() ? 'light' : 'dark')
  applyTheme()
}
