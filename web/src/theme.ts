import type { GlobalTheme, GlobalThemeOverrides } from 'naive-ui'
import { computed, ref, shallowRef, watchEffect } from 'vue'

// The dark theme of the library of components is read before it is dark for the first time.
const darkTheme = shallowRef<GlobalTheme | null>(null)
async function readDark() {
  darkTheme.value ??= (await import('./dark')).darkTheme
}

const system = matchMedia('(prefers-color-scheme: dark)')
const wanted = ref(localStorage.getItem('theme') ?? 'system')
const systemDark = ref(system.matches)
system.addEventListener('change', (e) => void readDark().then(() => (systemDark.value = e.matches)))

export const dark = computed(() => (wanted.value === 'system' ? systemDark.value : wanted.value === 'dark'))

/** Reads what the theme of now takes. */
export const themeRead = () => (dark.value ? readDark() : Promise.resolve())

export async function switchTheme() {
  await readDark()
  wanted.value = dark.value ? 'light' : 'dark'
  localStorage.setItem('theme', wanted.value)
}

watchEffect(() => {
  document.documentElement.setAttribute('data-theme', dark.value ? 'dark' : 'light')
})

const shared = {
  fontFamily: 'system-ui, -apple-system, "Segoe UI", "DejaVu Sans", sans-serif',
  fontFamilyMono: 'ui-monospace, "DejaVu Sans Mono", monospace',
  fontSize: '13px',
  fontSizeMedium: '13px',
  borderRadius: '4px',
}

export const overrides = computed<GlobalThemeOverrides>(() => {
  const primary = dark.value ? '#8fb39b' : '#4f6f5c'
  return {
    common: {
      ...shared,
      primaryColor: primary,
      primaryColorHover: dark.value ? '#a6c7b0' : '#5f8570',
      primaryColorPressed: dark.value ? '#7a9f87' : '#3f5a4a',
      primaryColorSuppl: primary,
      bodyColor: dark.value ? '#161b18' : '#f4f6f2',
      cardColor: dark.value ? '#1d2420' : '#ffffff',
      tableColor: dark.value ? '#1d2420' : '#ffffff',
      tableHeaderColor: dark.value ? '#242c27' : '#eef2ec',
      borderColor: dark.value ? '#36413a' : '#d5ddd3',
      dividerColor: dark.value ? '#2c352f' : '#e3e9e1',
    },
  }
})

export const base = computed(() => (dark.value ? darkTheme.value : null))
