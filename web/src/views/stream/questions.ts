import { useQuery } from '@tanstack/vue-query'
import { ref } from 'vue'

import { api, answered } from '@/api/client'
import { useClock } from '@/app/clock'
import { useKept } from '@/app/query'

/* What a stream's page asks for beside its main series. The page itself asks all of it at once, so that nothing waits until
   the part that shows it is drawn; each part asks again, and is answered by the same. */

const SAME_MS = 2000

export function useFigures(stream: number) {
  const { asked } = useClock()
  return useQuery({
    queryKey: ['figures', stream, asked],
    staleTime: SAME_MS,
    queryFn: () =>
      answered(api.GET('/api/streams/{stream}/figures', { params: { path: { stream }, query: asked.value } })),
  })
}

export function useStreamChanges(stream: number) {
  const { asked } = useClock()
  return useQuery({
    queryKey: ['stream changes', stream, asked],
    staleTime: SAME_MS,
    queryFn: () => answered(api.GET('/api/changes', { params: { query: { ...asked.value, stream, limit: 100 } } })),
  })
}

export function useFacts(stream: number) {
  const { asked } = useClock()
  return useQuery({
    queryKey: ['facts', stream, asked],
    staleTime: SAME_MS,
    queryFn: () =>
      answered(api.GET('/api/streams/{stream}/facts', { params: { path: { stream }, query: asked.value } })),
  })
}

/** The newest runs; `only` is kept in the address, `limit` is how many are shown. */
export function useRuns(stream: number) {
  const { asked } = useClock()
  const only = useKept('runs', 'all', ['all', 'failed'])
  const limit = ref(12)
  const runs = useQuery({
    queryKey: ['runs', stream, only, asked, limit],
    staleTime: SAME_MS,
    queryFn: () =>
      answered(
        api.GET('/api/streams/{stream}/runs', {
          params: { path: { stream }, query: { ...asked.value, only: only.value, limit: limit.value } },
        }),
      ),
  })
  return { only, limit, runs }
}
