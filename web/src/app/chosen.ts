import { computed, ref, type ComputedRef, type Ref } from 'vue'

export interface Chosen<T> {
  /** What is chosen of what is shown. */
  many: ComputedRef<T[]>
  isAll: ComputedRef<boolean>
  has: (id: number) => boolean
  toggle: (id: number) => void
  toggleAll: () => void
  none: () => void
}

/** Rows that are ticked, to be changed together; only those that are shown count. */
export function useChosen<T extends { id: number }>(shown: Ref<T[]>): Chosen<T> {
  const chosen = ref(new Set<number>())
  const many = computed(() => shown.value.filter((one) => chosen.value.has(one.id)))
  const isAll = computed(() => many.value.length > 0 && many.value.length === shown.value.length)
  function toggle(id: number): void {
    if (!chosen.value.delete(id)) chosen.value.add(id)
  }
  function toggleAll(): void {
    chosen.value = new Set(isAll.value ? [] : shown.value.map((one) => one.id))
  }
  return { many, isAll, has: (id) => chosen.value.has(id), toggle, toggleAll, none: () => chosen.value.clear() }
}
