import { computed, type WritableComputedRef } from 'vue'
import { useRoute, useRouter } from 'vue-router'

/* Of the clock, on every screen. */
const CLOCKS = new Set(['span', 'window', 'from', 'to', 'against'])

/** A value of a screen that is kept in the address, under a name that is not the clock's; its default is left out of it. */
export function useKept<T extends string>(key: string, initial: T, allowed?: readonly T[]): WritableComputedRef<T> {
  if (CLOCKS.has(key)) throw new Error(`${key} stands for the clock's own in the address`)
  const route = useRoute()
  const router = useRouter()
  return computed({
    get: () => {
      const found = route.query[key]
      if (typeof found !== 'string') return initial
      return allowed && !allowed.includes(found as T) ? initial : (found as T)
    },
    set: (value) => {
      void router.replace({ query: { ...route.query, [key]: value === initial ? undefined : value } })
    },
  })
}
