import { ref, watchEffect } from 'vue'

/** What the clock line says of the page that is open. */
export const pageName = ref('')
export const pageNote = ref('')

export function usePage(name: () => string, note: () => string = () => ''): void {
  watchEffect(() => {
    pageName.value = name()
    pageNote.value = note()
    document.title = `${name()} – Kuppel`
  })
}
