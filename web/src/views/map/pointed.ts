import { ref } from 'vue'

/** Which place is pointed at, on a map or in a list beside it; after a wait, so that crossing one is not pointing. */
export function usePointed() {
  const pointed = ref<string | null>(null)
  let timer = 0
  function look(key: string | null, wait = 0): void {
    clearTimeout(timer)
    timer = globalThis.setTimeout(() => (pointed.value = key), wait)
  }
  return { pointed, look }
}
