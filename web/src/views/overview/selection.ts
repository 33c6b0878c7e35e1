import { computed } from 'vue'
import { useRoute } from 'vue-router'

/** What a page is of, as its address says and the API wants it. */
export const SELECTIONS = {
  estate: 'all',
  group: 'group',
  target: 'target',
  'vantage-point': 'vantage_point',
} as const

export type SelectionKind = (typeof SELECTIONS)[keyof typeof SELECTIONS]

export function useSelection() {
  const route = useRoute()
  const of = SELECTIONS[String(route.name) as keyof typeof SELECTIONS] ?? 'all'
  const id = Number(route.params.id ?? 0)
  return { of, id, query: computed(() => ({ of, id })) }
}

/** Classes of answer, best first, in words. */
export const CLASSES = [
  { key: 'clear', told: 'inside the limit', fill: 'var(--phase-4)' },
  { key: 'within', told: 'inside, but not clear of it', fill: 'var(--phase-5)' },
  { key: 'degraded', told: 'beyond the degraded limit', fill: 'var(--degraded)' },
  { key: 'breached', told: 'beyond the breached limit', fill: 'var(--breached)' },
  { key: 'failed', told: 'no good answer', fill: 'var(--ink)' },
] as const

export type ClassKey = (typeof CLASSES)[number]['key']
