import { computed, readonly, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { clock as clockTime, moment } from './format'
import { heading } from './heading'

const MINUTE = 60_000
const HOUR = 60 * MINUTE
const DAY = 24 * HOUR

/** Spans of the ribbon: a unit and a bit, so that the same time one unit earlier is on it. */
export const SPANS = [
  { name: '6 h', key: '6h', length: 6 * HOUR, window: HOUR },
  { name: '36 h', key: '36h', length: 36 * HOUR, window: 4 * HOUR },
  { name: '8 d', key: '8d', length: 8 * DAY, window: DAY },
  { name: '5 w', key: '5w', length: 35 * DAY, window: 7 * DAY },
  { name: '13 mo', key: '13mo', length: 396 * DAY, window: 30 * DAY },
  { name: '2 y', key: '2y', length: 731 * DAY, window: 90 * DAY },
] as const

export type SpanKey = (typeof SPANS)[number]['key']

export interface Stretch {
  from: number
  to: number
}

/** What a window can be held against: the stretch before it, or the same time a day or a week earlier. */
export const AGAINST = [
  { key: 'none', label: 'nothing', shift: () => 0 },
  { key: 'yesterday', label: 'same time yesterday', shift: () => DAY },
  { key: 'week', label: 'same time last week', shift: () => 7 * DAY },
  { key: 'previous', label: 'the stretch before', shift: (window: Stretch) => window.to - window.from },
] as const

export type AgainstKey = (typeof AGAINST)[number]['key']

const SHORTEST = 2 * MINUTE

/* One clock for the whole application. `now` moves every second for ages and labels; `edge`, the end of a window that
   follows now, moves only when there is something new to ask for. */
const now = ref(Date.now())
const edge = ref(Date.now())
setInterval(() => {
  now.value = Date.now()
  if (now.value - edge.value > 10_000) edge.value = now.value
}, 1000)

/** The instant under the pointer, on every track and the ribbon at once; a click pins it. */
const instant = ref<number | null>(null)
const isPinned = ref(false)

/** Let a window that follows now end at this moment: something new arrived. */
export function advance(): void {
  edge.value = Date.now()
}

/** The clock that all screens share; span and window are kept in the address. */
export function useClock() {
  const route = useRoute()
  const router = useRouter()

  const span = computed(() => SPANS.find((one) => one.key === route.query.span) ?? SPANS[1])
  const held = computed<Stretch | null>(() => {
    const from = Date.parse(String(route.query.from ?? ''))
    const to = Date.parse(String(route.query.to ?? ''))
    return from < to ? { from, to } : null
  })
  const length = computed(() => {
    const asked = Number(route.query.window) * 1000
    return asked >= SHORTEST ? asked : span.value.window
  })
  const isFollowing = computed(() => held.value === null)
  const window = computed<Stretch>(() => held.value ?? { from: edge.value - length.value, to: edge.value })
  const ribbon = computed<Stretch>(() => {
    // A window that was held and lies before the span takes the ribbon along.
    const end = held.value && held.value.from < edge.value - span.value.length ? held.value.to : edge.value
    return { from: end - span.value.length, to: end }
  })
  /** The window as the API wants it. */
  const asked = computed(() => ({
    from: new Date(window.value.from).toISOString(),
    to: new Date(window.value.to).toISOString(),
  }))
  /** The comparison window, as long as the window itself: by name, or from a moment that was chosen. */
  const againstKey = computed<AgainstKey | 'chosen'>(() => {
    const asked = String(route.query.against ?? 'none')
    return AGAINST.find((one) => one.key === asked)?.key ?? (Number.isNaN(Date.parse(asked)) ? 'none' : 'chosen')
  })
  const against = computed<Stretch | null>(() => {
    if (againstKey.value === 'none') return null
    const { from, to } = window.value
    const named = AGAINST.find((one) => one.key === againstKey.value)
    const start = named ? from - named.shift(window.value) : Date.parse(String(route.query.against))
    return { from: start, to: start + (to - from) }
  })
  const againstWords = computed(() => {
    if (!against.value) return 'nothing'
    const named = AGAINST.find((one) => one.key === againstKey.value)
    return named?.label ?? `${moment(against.value.from, now.value)} to ${moment(against.value.to, now.value)}`
  })
  /** The comparison window as the API wants it; empty without one. */
  const askedAgainst = computed(() =>
    against.value
      ? {
          against_from: new Date(against.value.from).toISOString(),
          against_to: new Date(against.value.to).toISOString(),
        }
      : {},
  )
  const words = computed(() => {
    const { from, to } = window.value
    return `${moment(from, now.value)} to ${isFollowing.value ? 'now' : moment(to, now.value)}`
  })

  /* Each choice is a step that "back" undoes. */
  function change(query: Record<string, string | undefined>): void {
    const here = heading.value ?? route
    void router.push({ path: here.path, query: { ...here.query, ...query } })
  }

  function holdAgainst(key: AgainstKey): void {
    change({ against: key === 'none' ? undefined : key })
  }

  /** Hold the window against one that begins at a moment. */
  function holdAgainstFrom(time: number): void {
    change({ against: new Date(Math.round(time / 1000) * 1000).toISOString() })
  }

  /** Comparison on or off: what fits the length of the window. */
  function toggleAgainst(): void {
    const length = window.value.to - window.value.from
    holdAgainst(
      againstKey.value !== 'none' ? 'none' : length <= DAY ? 'yesterday' : length <= 7 * DAY ? 'week' : 'previous',
    )
  }

  /** Choose a window. One that reaches now follows it. */
  function choose(wanted: Stretch): void {
    const width = Math.max(SHORTEST, wanted.to - wanted.from)
    const latest = edge.value
    if (wanted.to >= latest - span.value.length / 250) {
      const from = Math.min(wanted.from, latest - SHORTEST)
      change({ from: undefined, to: undefined, window: String(Math.round((latest - from) / 1000)) })
      return
    }
    const from = Math.round(wanted.from / 1000) * 1000
    change({
      from: new Date(from).toISOString(),
      to: new Date(from + Math.round(width / 1000) * 1000).toISOString(),
      window: undefined,
    })
  }

  function chooseSpan(key: SpanKey): void {
    change({ span: key === '36h' ? undefined : key, from: undefined, to: undefined, window: undefined })
  }

  function follow(): void {
    const width = window.value.to - window.value.from
    change({ from: undefined, to: undefined, window: String(Math.round(width / 1000)) })
  }

  function point(time: number | null): void {
    if (!isPinned.value) instant.value = time
  }

  function pin(time: number): void {
    isPinned.value = !isPinned.value
    instant.value = isPinned.value ? time : null
  }

  function unpin(): void {
    isPinned.value = false
    instant.value = null
  }

  return {
    now: readonly(now),
    span,
    window,
    ribbon,
    asked,
    words,
    isFollowing,
    against,
    againstKey,
    againstWords,
    askedAgainst,
    holdAgainst,
    holdAgainstFrom,
    toggleAgainst,
    instant: readonly(instant),
    instantWords: computed(() => (instant.value === null ? '' : clockTime(instant.value, true))),
    isPinned: readonly(isPinned),
    choose,
    chooseSpan,
    follow,
    point,
    pin,
    unpin,
  }
}
