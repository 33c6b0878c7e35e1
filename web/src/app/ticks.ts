import type { Stretch } from './clock'
import { clock } from './format'

const HOUR = 3_600_000
const DAY = 24 * HOUR

export interface Tick {
  time: number
  label: string
  isDay: boolean
}

const STEPS = [60_000, 120_000, 300_000, 600_000, 900_000, 1_800_000, HOUR, 2 * HOUR, 3 * HOUR, 6 * HOUR, 12 * HOUR]

function startOfDay(time: number): number {
  return new Date(time).setHours(0, 0, 0, 0)
}

/** Starts of local days in a stretch; every n-th, so that at most `most` of them are named. */
function days(stretch: Stretch, most: number): number[] {
  const every = Math.ceil((stretch.to - stretch.from) / DAY / most)
  const found: number[] = []
  const first = new Date(startOfDay(stretch.from))
  for (let index = 1; ; index++) {
    // By the calendar, since a day in which the clocks change is not 24 hours long.
    const start = new Date(first.getFullYear(), first.getMonth(), first.getDate() + index).getTime()
    if (start > stretch.to) return found
    if (index % every === 0) found.push(start)
  }
}

/** Local times of day in a stretch, at a step that gives at most `most`. */
function times(stretch: Stretch, most: number): number[] {
  const step = STEPS.find((one) => (stretch.to - stretch.from) / one <= most) ?? DAY
  const midnight = startOfDay(stretch.from)
  const found: number[] = []
  for (let time = midnight; time <= stretch.to; time += step) if (time > stretch.from) found.push(time)
  return found
}

/** Ticks of the ribbon: days, and times of day between them where there is room. */
export function ribbonTicks(stretch: Stretch): Tick[] {
  const length = stretch.to - stretch.from
  const marks = days(stretch, 14).map((time) => ({ time, label: '', isDay: true }))
  if (length > 3 * DAY) return marks
  const midnights = new Set(marks.map((mark) => mark.time))
  const hours = times(stretch, 12)
    .filter((time) => !midnights.has(time))
    .map((time) => ({ time, label: clock(time), isDay: false }))
  return [...marks, ...hours]
}

/** Ticks under a chart. */
export function axisTicks(stretch: Stretch, most = 7): Tick[] {
  if (stretch.to - stretch.from > 2.5 * DAY) {
    return days(stretch, most).map((time) => ({ time, label: '', isDay: true }))
  }
  return times(stretch, most).map((time) => ({ time, label: clock(time), isDay: false }))
}
