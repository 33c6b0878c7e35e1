import { useIsFetching } from '@tanstack/vue-query'
import { onScopeDispose } from 'vue'

import { advance } from './clock'
import { useLive } from './live'

// Often enough that a new result is seen within two seconds, and never while the last question is still open.
const EVERY = 1000

/** Move the window on when something new arrives for what is on screen. */
export function useFresh(concerns: (stream: number) => boolean = () => true): void {
  const fetching = useIsFetching()
  let isDue = false
  const timer = setInterval(() => {
    if (!isDue || fetching.value > 0) return
    isDue = false
    advance()
  }, EVERY)
  const note = (event: { stream: number }) => {
    if (concerns(event.stream)) isDue = true
  }
  useLive({ run: note, state: note, missed: () => (isDue = true) })
  onScopeDispose(() => clearInterval(timer))
}
