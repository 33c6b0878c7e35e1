/* How figures and times are written. Rounding only: every figure itself comes from the hub. */

export interface Written {
  figure: string
  unit: string
}

const MINUS = '−'

function digits(value: number): number {
  const size = Math.abs(value)
  return size >= 100 ? 0 : size >= 10 ? 1 : size >= 1 ? 2 : 3
}

/* To make one takes as long as to write a thousand figures with it. */
const GROUPED = [0, 1, 2, 3, 4, 5, 6].map(
  (places) => new Intl.NumberFormat('en-GB', { minimumFractionDigits: places, maximumFractionDigits: places }),
)

function grouped(value: number, places: number): string {
  return (GROUPED[Math.min(places, 6)]?.format(value) ?? '').replace('-', MINUS)
}

/** A share as percent, exact enough that 99.97 % is not told as 100 %. */
function percent(ratio: number): string {
  const value = ratio * 100
  if (value === 0 || value === 100) return String(value)
  return grouped(value, value > 99 || value < 1 ? 2 : 1)
}

/* UCUM units of things that are counted, and the words for units that are no word themselves. */
const COUNTED = new Set(['By', 's'])
const WORDS: Record<string, string> = {
  By: 'B',
  'MBy/s': 'MB/s',
  d: 'days',
  'dB[mW]': 'dBm',
  '{answer}': 'answers',
  '{connection}': 'connections',
  '{error}': 'errors',
  '{hop}': 'hops',
  '{mos}': 'of 5',
  '{packet}': 'packets',
  '{path}': 'ways',
  '{process}': 'processes',
  '{R}': 'R',
  '{redirect}': 'redirects',
  '{request}': 'requests',
  '{run}': 'runs',
  '{score}': '',
  '{service}': 'services',
}
/* Annotated units that are no counts: 1 of them is not a singular. */
const SCORES = new Set(['{mos}', '{R}', '{score}'])

/** A unit as people read it. */
export function unitWords(unit: string): string {
  return unit === '1' ? '%' : (WORDS[unit] ?? unit)
}

/** `more` is how many more places than usual are shown. */
export function written(value: number | null | undefined, unit: string, more = 0): Written {
  if (value === null || value === undefined) return { figure: '–', unit: '' }
  if (unit === '1') return { figure: percent(value), unit: '%' }
  if (unit === 'By' && Math.abs(value) >= 1e6) {
    const [figure = '', scaled = ''] = bytes(value).split(' ')
    return { figure, unit: scaled }
  }
  const isCount = COUNTED.has(unit) || (unit.startsWith('{') && !SCORES.has(unit))
  const words = WORDS[unit] ?? unit
  const isOne = value === 1 && unit.startsWith('{') && isCount
  return {
    figure: grouped(value, Number.isInteger(value) && isCount ? 0 : digits(value) + more),
    unit: isOne ? words.replace(/(?<=ss)es$|s$/, '') : words,
  }
}

/** The marks of one scale, as exact as it takes to tell them apart. */
export function marks(values: readonly number[], unit: string): string[] {
  const told = [0, 1, 2, 3].map((more) => values.map((value) => written(value, unit, more).figure))
  return told.find((words) => new Set(words).size === words.length) ?? told[0] ?? []
}

export function inWords(value: number | null | undefined, unit: string): string {
  const { figure, unit: shown } = written(value, unit)
  return shown ? `${figure} ${shown}` : figure
}

/** An amount of octets in the largest unit (SI) that leaves a whole number before the point. */
export function bytes(value: number | null | undefined): string {
  if (value === null || value === undefined) return '–'
  const [size, unit] = (
    [
      [1e12, 'TB'],
      [1e9, 'GB'],
      [1e6, 'MB'],
      [1e3, 'kB'],
    ] as const
  ).find(([one]) => value >= one) ?? [1, 'B']
  const scaled = value / size
  return `${grouped(scaled, size === 1 || scaled >= 100 ? 0 : 1)} ${unit}`
}

/** A change as a signed percentage. */
export function change(ratio: number): string {
  const value = Math.round(ratio * 100)
  return value === 0 ? '±0 %' : `${value > 0 ? '+' : MINUS}${Math.abs(value)} %`
}

/** A difference with its sign. */
export function signed(value: number, unit: string): string {
  const { figure, unit: shown } = written(Math.abs(value), unit)
  const sign = /[1-9]/.test(figure) ? (value < 0 ? MINUS : '+') : '±'
  return `${sign}${sign === '±' ? 0 : figure} ${shown}`
}

const ZONE = Intl.DateTimeFormat().resolvedOptions().timeZone
const CLOCK = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit' })
const CLOCK_SECONDS = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit', second: '2-digit' })
const DAY = new Intl.DateTimeFormat('en-GB', { weekday: 'short', day: 'numeric', month: 'short' })
const DAY_SHORT = new Intl.DateTimeFormat('en-GB', { weekday: 'short', day: 'numeric' })

export const zone = ZONE

export function ms(time: string): number {
  return Date.parse(time)
}

export function clock(time: number, withSeconds = false): string {
  return (withSeconds ? CLOCK_SECONDS : CLOCK).format(time)
}

export function day(time: number): string {
  return DAY.format(time).replace(',', '')
}

export function dayShort(time: number): string {
  return DAY_SHORT.format(time).replace(',', '')
}

/** The time of day; with the day when it is not today's; the day and the year when it is not this year's. */
export function moment(time: number, now: number): string {
  const [then, today] = [new Date(time), new Date(now)]
  if (then.toDateString() === today.toDateString()) return clock(time)
  // Far from now the year says more than the hour.
  return then.getFullYear() === today.getFullYear()
    ? `${day(time)} ${clock(time)}`
    : `${day(time)} ${then.getFullYear()}`
}

/** In full, with the zone: what a hover says. */
export function full(time: number): string {
  return `${day(time)} ${new Date(time).getFullYear()} ${clock(time, true)}, ${ZONE}`
}

/** A duration: 8 s, 12 min, 1 h, 2 h 29, 3 days. */
export function duration(milliseconds: number): string {
  const seconds = Math.max(0, Math.round(milliseconds / 1000))
  if (seconds < 100) return `${seconds} s`
  const minutes = Math.round(seconds / 60)
  if (minutes < 60) return `${minutes} min`
  const hours = Math.floor(minutes / 60)
  if (hours < 48) return minutes % 60 ? `${hours} h ${String(minutes % 60).padStart(2, '0')}` : `${hours} h`
  return `${Math.round(hours / 24)} days`
}
