import { onScopeDispose, readonly, ref } from 'vue'

import { api } from '@/api/client'

export interface RunEvent {
  stream: number
  time: string
  reason: string | null
  main: number | null
}

export interface StateEvent {
  stream: number
  state: string
  since: string
}

type Handler<T> = (event: T) => void

const connected = ref(false)
const newest = ref<number | null>(null)
const onRun = new Set<Handler<RunEvent>>()
const onState = new Set<Handler<StateEvent>>()
const onMissed = new Set<() => void>()
let source: EventSource | null = null

function open(): void {
  source = new EventSource('/api/live')
  source.addEventListener('ready', () => {
    connected.value = true
    onMissed.forEach((handle) => handle())
  })
  source.addEventListener('lagged', () => onMissed.forEach((handle) => handle()))
  source.addEventListener('run', (event) => {
    const run = JSON.parse(event.data) as RunEvent
    newest.value = Math.max(newest.value ?? 0, Date.parse(run.time))
    onRun.forEach((handle) => handle(run))
  })
  source.addEventListener('state', (event) => {
    const state = JSON.parse(event.data) as StateEvent
    onState.forEach((handle) => handle(state))
  })
  source.onerror = () => {
    connected.value = false
    // It ends with the session, too: then this is how we hear of it.
    void api.GET('/api/arriving')
    // The browser tries again by itself, unless the answer was final: then we do.
    if (source?.readyState === EventSource.CLOSED) setTimeout(open, 3000)
  }
}

/** What happens at the hub, as it happens. Handlers end with the component; `missed` asks for everything anew. */
export function useLive(handlers: { run?: Handler<RunEvent>; state?: Handler<StateEvent>; missed?: () => void }) {
  if (source === null) open()
  if (handlers.run) onRun.add(handlers.run)
  if (handlers.state) onState.add(handlers.state)
  if (handlers.missed) onMissed.add(handlers.missed)
  onScopeDispose(() => {
    if (handlers.run) onRun.delete(handlers.run)
    if (handlers.state) onState.delete(handlers.state)
    if (handlers.missed) onMissed.delete(handlers.missed)
  })
  return { connected: readonly(connected), newest: readonly(newest) }
}
