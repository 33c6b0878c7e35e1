import { useIsFetching } from '@tanstack/vue-query'
import { onScopeDispose } from 'vue'

import { advance } from './clock'
import { useLive } from './live'

/** Move the window on when something new arrives for what is on screen: at once for a stream, so that a new result is seen
    within two seconds; for what sums up many, every so many milliseconds. Never while the last question is still open. */
export function useFresh(concerns: (stream: number) => boolean = () => true, every = 1000): void {
  const fetching = useIsFetching()
  let isDue = false
  const timer = setInterval(() => {
    if (!isDue || fetching.value > 0) return
    isDue = false
    advance()
  }, every)
  const note = (event: { stream: number }) => {
    if (concerns(event.stream)) isDue = true
  }
  useLive({ run: note, state: note, missed: () => (isDue = true) })
  onScopeDispose(() => clearInterval(timer))
}
