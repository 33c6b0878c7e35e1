import type { Stretch } from '@/app/clock'

/** Plots are drawn on 1000 units of time; shapes stretch with the width, words stand beside them in HTML. */
export const WIDTH = 1000

export function across(stretch: Stretch): (time: number) => number {
  return (time) => ((time - stretch.from) / (stretch.to - stretch.from)) * WIDTH
}

export interface Scale {
  low: number
  high: number
  ticks: number[]
}

/** A scale over values with about `most` round ticks; it begins at 0 when the values reach down near it. */
export function roundScale(values: readonly number[], most = 3): Scale {
  const low = Math.min(...values)
  const high = Math.max(...values)
  if (!Number.isFinite(low) || !Number.isFinite(high)) return { low: 0, high: 1, ticks: [] }
  const spread = high - low || Math.abs(high) * 0.2 || 1
  const from = low - spread * 0.15 < high * 0.35 ? 0 : low - spread * 0.15
  const to = high + spread * 0.12
  const rough = (to - from) / most
  const power = 10 ** Math.floor(Math.log10(rough))
  const step = [1, 2, 5, 10].map((one) => one * power).find((one) => one >= rough) ?? rough
  const ticks: number[] = []
  for (let tick = Math.ceil(from / step) * step; tick <= to; tick += step) if (tick > from) ticks.push(tick)
  return { low: from, high: to, ticks }
}

export function line(points: readonly (readonly [number, number])[]): string {
  return points.map(([x, y], index) => `${index ? 'L' : 'M'}${x.toFixed(1)} ${y.toFixed(1)}`).join('')
}

/** Runs of neighbouring indices for which `has` holds: a gap is never bridged. */
export function stretches(length: number, has: (index: number) => boolean): number[][] {
  const found: number[][] = []
  let current: number[] = []
  for (let index = 0; index <= length; index++) {
    if (index < length && has(index)) current.push(index)
    else if (current.length) {
      found.push(current)
      current = []
    }
  }
  return found
}
