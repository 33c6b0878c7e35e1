import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed } from 'vue'

import { api, answered, type Shapes } from '@/api/client'

export type Saved = Shapes['SavedShape']
export type View = Saved & { body: Shapes['ViewBody'] }
export type Chart = Saved & { body: Shapes['ChartBody'] }

/** What the person who is signed in keeps under a name. */
export function useSaved() {
  const client = useQueryClient()
  const found = useQuery({ queryKey: ['saved'], queryFn: () => answered(api.GET('/api/saved')), staleTime: 60_000 })
  const again = () => client.invalidateQueries({ queryKey: ['saved'] })
  const keep = useMutation({
    mutationFn: (body: Shapes['NewSaved']) => answered(api.POST('/api/saved', { body })),
    onSuccess: again,
  })
  const forget = useMutation({
    mutationFn: (saved: number) => answered(api.DELETE('/api/saved/{saved}', { params: { path: { saved } } })),
    onSuccess: again,
  })
  return {
    views: computed(() => (found.data.value ?? []).filter((one): one is View => one.body.kind === 'view')),
    charts: computed(() => (found.data.value ?? []).filter((one): one is Chart => one.body.kind === 'chart')),
    keep,
    forget,
  }
}
