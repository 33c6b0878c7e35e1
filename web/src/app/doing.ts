import { ref, type Ref } from 'vue'

import { HubProblem } from '@/api/client'

export interface Wrong {
  field: string
  told: string
}

export interface Doing {
  wrong: Ref<Wrong | null>
  isBusy: Ref<boolean>
  /** Do it; what the hub refuses is kept in `wrong`, with its field. True when it went well. */
  attempt: (act: () => Promise<void>) => Promise<boolean>
}

export function useDoing(): Doing {
  const wrong = ref<Wrong | null>(null)
  const isBusy = ref(false)
  async function attempt(act: () => Promise<void>): Promise<boolean> {
    wrong.value = null
    isBusy.value = true
    try {
      await act()
      return true
    } catch (error) {
      if (!(error instanceof HubProblem)) throw error
      const { title, remedy, field } = error.problem
      wrong.value = { field: field ?? '', told: `${title ?? error.message} ${remedy ?? ''}`.trim() }
      return false
    } finally {
      isBusy.value = false
    }
  }
  return { wrong, isBusy, attempt }
}
