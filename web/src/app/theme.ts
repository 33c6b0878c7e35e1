import { ref, watchEffect } from 'vue'

export type Theme = 'day' | 'night'

const KEY = 'kuppel.theme'
const kept = localStorage.getItem(KEY)
const bySystem: Theme = matchMedia('(prefers-color-scheme: dark)').matches ? 'night' : 'day'

/** Light or night: the system's at the first visit, then what was chosen. */
export const theme = ref<Theme>(kept === 'day' || kept === 'night' ? kept : bySystem)

watchEffect(() => {
  document.documentElement.dataset.theme = theme.value
})

export function switchTheme(): void {
  theme.value = theme.value === 'night' ? 'day' : 'night'
  localStorage.setItem(KEY, theme.value)
}
