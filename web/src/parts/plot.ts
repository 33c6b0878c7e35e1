import type { Shapes } from '@/api/client'
import type { Stretch } from '@/app/clock'
import { unitWords } from '@/app/format'

/** What of a series is drawn, of one stream or of several together. */
export type Band = Shapes['BandShape'] & { changes?: Shapes['LevelChangeShape'][] }

/** Lines of several streams in one chart, in their order. */
export const SERIES = ['var(--ink)', ...[2, 3, 4, 5, 6].map((number) => `var(--series-${number})`)]

/** Plots are drawn on 1000 units of time; shapes stretch with the width, words stand beside them in HTML. */
export const WIDTH = 1000

export function across(stretch: Stretch): (time: number) => number {
  return (time) => ((time - stretch.from) / (stretch.to - stretch.from)) * WIDTH
}

/** Where a slice of time lies, as far as it is within the plot. */
export function slice(stretch: Stretch, start: number, width: number): { from: number; middle: number; to: number } {
  const x = across(stretch)
  const [from, to] = [start, start + width].map((time) => Math.min(WIDTH, Math.max(0, x(time)))) as [number, number]
  return { from, middle: (from + to) / 2, to }
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

/** Heads of a band's table, with the unit of its figures. */
export function bandColumns(unit: string): string[] {
  const told = unitWords(unit)
  const named = (name: string) => (told ? `${name}, ${told}` : name)
  return ['from', named('p5'), named('median'), named('p95'), 'runs ok', 'failed']
}

/** A band as rows of a table: the start of each slice, its percentiles and its runs. */
export function bandRows(of: Band | undefined): (string | number | null | undefined)[][] {
  return (of?.starts ?? []).map((start, at) => [
    start,
    of?.p5[at],
    of?.p50[at],
    of?.p95[at],
    of?.counts[at],
    of?.failed[at],
  ])
}
