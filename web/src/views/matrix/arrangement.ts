import type { Shapes } from '@/api/client'
import { change, duration, inWords, signed } from '@/app/format'

export type Matrix = Shapes['MatrixShape']
export type Cell = Shapes['MatrixCell']
type Row = Shapes['MatrixRow']
type Column = Shapes['MatrixColumn']

export interface ArrangedRow extends Row {
  index: number
  isSilent: boolean
  cells: Cell[]
  byColumn: (Cell | null)[]
  /** Its most unusual cell, and by how much. */
  worst: { level: number; told: string } | null
}

/** Tints of a cell by its departure, from −2 to 4. */
export const TINTS = ['bg-faster-2', 'bg-faster-1', '', 'bg-slower-1', 'bg-slower-2', 'bg-slower-3', 'bg-slower-4']

export type RowsBy = 'provider' | 'place' | 'country' | 'kind' | 'subnet' | 'person' | 'tag' | 'none'

export interface Group {
  name: string
  told: string
  ink: string
  rows: ArrangedRow[]
}

export interface Arranged {
  columns: (Column & { heading: string })[]
  groups: Group[]
  caption: string
}

const CAPTIONS = {
  p95: 'ms unless said, 95th percentile of the window (5th where less is worse)',
  p50: 'ms unless said, median of the window',
  p99: 'ms unless said, 99th percentile of the window (1st where less is worse)',
  mean: 'ms unless said, mean of the window',
  worst: 'ms unless said, worst run of the window',
  loss: '% of packets lost in the window',
  availability: '% of runs that were ok in the window',
}
const INK = {
  fine: 'text-ink-3',
  degraded: 'text-degraded-ink',
  breached: 'text-breached-ink',
  silent: 'text-silent-ink',
}
const ORDER = ['breached', 'degraded', 'silent', 'fine'] as const

/** The matrix as it is drawn: rows in groups, in the hub's order, narrowed to what was searched. */
export function arranged(matrix: Matrix, rowsBy: RowsBy, search: string): Arranged {
  const wanted = search.trim().toLowerCase()
  const fits = (...texts: string[]) => texts.some((text) => text.toLowerCase().includes(wanted))
  const columnsFound = matrix.columns.filter((one) => fits(one.name, one.description))
  const rowsFound = matrix.rows.filter((one) =>
    fits(one.name, one.place, one.provider, one.country, one.person, one.kind, one.subnet, ...one.tags),
  )
  // A search may mean a row or a column: it narrows those that it finds, and leaves the other side whole.
  const named = wanted && columnsFound.length && !rowsFound.length ? columnsFound : matrix.columns
  // What no probe of it can say (loss of a name's lookup, for example) would be a column of nothing.
  const able = new Set(matrix.cells.filter((cell) => cell.shown !== null).map((cell) => cell.target))
  const columns = named.filter((one) => able.has(one.id))
  const rows = wanted && (rowsFound.length || !columnsFound.length) ? rowsFound : matrix.rows
  const byRow = new Map<number, Cell[]>()
  for (const cell of matrix.cells) {
    const own = byRow.get(cell.vantage_point)
    if (own) own.push(cell)
    else byRow.set(cell.vantage_point, [cell])
  }

  const arrangedRows = rows.map((row): ArrangedRow => {
    const own = byRow.get(row.id) ?? []
    const byTarget = new Map(own.map((cell) => [cell.target, cell]))
    const byColumn = columns.map((column) => byTarget.get(column.id) ?? null)
    return {
      ...row,
      index: 0,
      isSilent: own.length > 0 && own.every((cell) => cell.streams.every((one) => one.state === 'silent')),
      cells: own,
      worst: worst(own),
      byColumn,
    }
  })

  const groups = new Map<string, ArrangedRow[]>()
  for (const row of arrangedRows) {
    const name = rowsBy === 'none' ? '' : (rowsBy === 'tag' ? row.tags.join(', ') : row[rowsBy]) || 'not stated'
    const members = groups.get(name)
    if (members) members.push(row)
    else groups.set(name, [row])
  }
  let index = 0
  const made = [...groups.entries()].map(([name, members]): Group => {
    members.forEach((row) => (row.index = index++))
    return { name, ...told(members), rows: members }
  })
  return {
    columns: columns.map((column) => ({ ...column, heading: heading(column, matrix) })),
    groups: made,
    caption: captioned(matrix, named.length - columns.length),
  }
}

/** A cell as it is read out. */
export function spoken(row: ArrangedRow, column: Column | undefined, cell: Cell): string {
  return `${row.name} to ${column?.name ?? ''}: ${inWords(cell.figure.value, cell.figure.unit)}, ${cell.state}`
}

/** How far a cell lies from what it is held against, in words. */
export function departure(cell: Cell): string {
  const { departure: found, figure } = cell
  if (!found || figure.value === null) return ''
  // A share within its interval is as ever: a hundredth of a point is nothing to read.
  if (figure.unit === '1' && found.level === 0) return ''
  if (figure.unit === '1') return `${signed((figure.value - found.usual) * 100, '')}points`
  return found.usual ? change(figure.value / found.usual - 1) : ''
}

function worst(cells: Cell[]): ArrangedRow['worst'] {
  const found = cells.reduce<Cell | null>(
    (most, cell) => ((cell.departure?.amount ?? -Infinity) > (most?.departure?.amount ?? -Infinity) ? cell : most),
    null,
  )
  const told = found ? departure(found) : ''
  return found?.departure && told ? { level: found.departure.level, told } : null
}

function told(rows: ArrangedRow[]): { told: string; ink: string } {
  const affected = rows.filter((row) => row.summary.is_affected)
  const worst = ORDER.find((state) => affected.some((row) => row.summary.state === state)) ?? 'fine'
  if (affected.length === 0)
    return { told: rows.length === 1 ? 'not affected' : `none of ${rows.length} affected`, ink: INK.fine }
  return { told: `${affected.length} of ${rows.length} affected, ${worst}`, ink: INK[worst] }
}

/** What kind of probe the column's figures are from. */
function heading(column: Column, matrix: Matrix): string {
  const labels = new Set(
    matrix.cells
      .filter((cell) => cell.target === column.id)
      .map((cell) => cell.streams.find((one) => one.stream === cell.shown)?.kind_label)
      .filter((label) => label !== undefined),
  )
  return [...labels].join(', ')
}

function captioned(matrix: Matrix, unable: number): string {
  const told = CAPTIONS[matrix.measure]
  return unable ? `${told}; ${unable} target${unable === 1 ? ' has' : 's have'} no probe that tells it` : told
}

export function silentFor(row: ArrangedRow, now: number): string {
  const last = Math.max(
    ...row.cells.flatMap((cell) => cell.streams.map((one) => Date.parse(one.last_run ?? ''))).filter(Number.isFinite),
  )
  return Number.isFinite(last) ? `no result from here for ${duration(now - last)}` : 'no result from here yet'
}
