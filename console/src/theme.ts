import { createVuetify } from 'vuetify'
import { aliases, mdi } from 'vuetify/iconsets/mdi-svg'

// The palette is Jorvex's own: chart paper and harbour blue by day, the same
// harbour by night.
const light = {
  dark: false,
  colors: {
    background: '#f5f3ec',
    surface: '#fffdf8',
    'surface-variant': '#e7e3d6',
    'on-surface-variant': '#3b4149',
    primary: '#134e6b',
    secondary: '#6b5b3e',
    error: '#a3261d',
    warning: '#8a5a00',
    success: '#1f6b45',
    info: '#134e6b',
  },
}

const dark = {
  dark: true,
  colors: {
    background: '#10171d',
    surface: '#17212a',
    'surface-variant': '#24313c',
    'on-surface-variant': '#c7d0d6',
    primary: '#8cc7e0',
    secondary: '#d3bf94',
    error: '#ff9c8f',
    warning: '#e9b95c',
    success: '#86d0a3',
    info: '#8cc7e0',
  },
}

const wantsDark = window.matchMedia('(prefers-color-scheme: dark)')

export const vuetify = createVuetify({
  theme: { defaultTheme: wantsDark.matches ? 'dark' : 'light', themes: { light, dark } },
  icons: { defaultSet: 'mdi', aliases, sets: { mdi } },
  defaults: {
    VBtn: { variant: 'flat', rounded: 'sm' },
    VTextField: { variant: 'outlined', density: 'compact', hideDetails: true },
    VAlert: { variant: 'tonal', density: 'comfortable', rounded: 'sm' },
  },
})

wantsDark.addEventListener('change', (e) => {
  vuetify.theme.change(e.matches ? 'dark' : 'light')
})
