import type { Shapes, State } from '@/api/client'
import { inWords, ms } from '@/app/format'

export type Point = Shapes['PointShape']
export type Target = Shapes['TargetPlace']

/** Vantage points that stand at one position, and how they are together. */
export interface Place {
  key: string
  name: string
  longitude: number
  latitude: number
  points: Point[]
  state: State
  told: string
}

/* Of what is silent the last course matters, not how often it went to and fro before. */
const LAST_MS = 90 * 60_000

/** Where a vantage point that moves was over the window, degrees east and north. */
export interface Course {
  vantagePoint: number
  isSilent: boolean
  positions: [number, number][]
}

export function coursesOf(courses: readonly Shapes['CourseShape'][], points: readonly Point[]): Course[] {
  const states = new Map(points.map((one) => [one.id, one.summary.state]))
  return courses
    .map((one): Course => {
      const isSilent = states.get(one.vantage_point) === 'silent'
      const end = ms(one.fixes[one.fixes.length - 1]?.time ?? '')
      const shown = isSilent ? one.fixes.filter((fix) => ms(fix.time) >= end - LAST_MS) : one.fixes
      return {
        vantagePoint: one.vantage_point,
        isSilent,
        positions: shown.map((fix) => [fix.longitude, fix.latitude]),
      }
    })
    .filter((one) => one.positions.length > 1)
}

const ORDER: Record<State, number> = { breached: 0, degraded: 1, silent: 2, fine: 3 }

export function stateOf(point: { summary: Shapes['GroupSummary'] }): State {
  return point.summary.is_affected ? point.summary.state : 'fine'
}

function told(points: readonly Point[], unit: string): string {
  const bad = points.filter((one) => stateOf(one) !== 'fine')
  const names = (some: readonly Point[]) => some.map((one) => one.name).join(', ')
  if (bad.length === 0) return names(points)
  const worst = bad[0]
  const what = worst ? stateOf(worst) : 'fine'
  const slow = bad
    .filter((one) => one.window.value !== null && one.month.value !== null && unit)
    .map((one) => `${one.name} ${inWords(one.window.value, unit)}, ${inWords(one.month.value, unit)} in a month`)
  if (points.length === 1) return `${what}${slow.length ? `: ${slow[0]}` : ''}`
  const rest = points.filter((one) => !bad.includes(one))
  return [
    `${bad.length} of ${points.length} ${bad.length === 1 ? 'is' : 'are'} ${what}: ${slow.length ? slow.join('; ') : names(bad)}.`,
    rest.length ? `${names(rest)} ${rest.length === 1 ? 'is' : 'are'} fine.` : '',
  ].join(' ')
}

/** Places from vantage points, worst first; and those whose position nobody stated. */
export function placed(points: readonly Point[], unit: string): { places: Place[]; nowhere: Point[] } {
  const groups = new Map<string, Point[]>()
  for (const point of points) {
    if (!point.position) continue
    const key = `${point.position.longitude.toFixed(3)} ${point.position.latitude.toFixed(3)}`
    groups.set(key, [...(groups.get(key) ?? []), point])
  }
  const places = [...groups.entries()].map(([key, members]): Place => {
    const own = [...members].sort(
      (one, other) => ORDER[stateOf(one)] - ORDER[stateOf(other)] || one.name.localeCompare(other.name),
    )
    const position = own[0]?.position ?? { longitude: 0, latitude: 0 }
    const towns = new Set(own.map((one) => one.town))
    return {
      key,
      name:
        own.length === 1 && own[0]?.kind !== 'site'
          ? (own[0]?.name ?? '')
          : towns.size === 1
            ? [...towns][0] || own[0]?.name || ''
            : (own[0]?.town ?? ''),
      ...position,
      points: own,
      state: own[0] ? stateOf(own[0]) : 'fine',
      told: told(own, unit),
    }
  })
  places.sort((one, other) => ORDER[one.state] - ORDER[other.state] || other.points.length - one.points.length)
  return { places, nowhere: points.filter((one) => !one.position) }
}
