import { useVirtualizer } from '@tanstack/vue-virtual'
import { computed, watch, type Ref } from 'vue'

import { unitWords, written } from '@/app/format'

import type { Arranged, ArrangedRow, Cell, Group } from './arrangement'

/* Which part of a matrix is in sight: of ten thousand cells only those are drawn, and some around them. Heights and widths
   are therefore told from what stands in a line or a column, not found by drawing all of it. */

const ROW = 23
const HEADING = 27
const MARGIN_ROWS = 20
const MARGIN_COLUMNS = 4
/* Sizes of names and kinds, of figures, of units; a figure is as wide as its digits. */
const [HEAD, FIGURE, UNIT] = [12.5, 13.5, 11.5]
const DIGIT = 0.5

const pen = document.createElement('canvas').getContext('2d')
/** How wide a text stands in the interface's font. */
function width(text: string, size: number): number {
  if (!pen) return text.length * DIGIT * size
  pen.font = `${size}px ${getComputedStyle(document.body).fontFamily}`
  return pen.measureText(text).width
}

export type Line = { group: Group; row: null } | { group: Group; row: ArrangedRow }

/** Groups and their rows as one list of lines. */
export function linesOf(groups: readonly Group[]): Line[] {
  return groups.flatMap((group): Line[] => [
    ...(group.name ? [{ group, row: null }] : []),
    ...group.rows.map((row): Line => ({ group, row })),
  ])
}

function cellWidth(cell: Cell | null | undefined): number {
  if (!cell) return 0
  const { figure, unit } = written(cell.figure.value, cell.figure.unit)
  const hasUnit = cell.figure.unit !== 'ms' && cell.figure.unit !== '1' && unit
  const dome = cell.state === 'fine' ? 0 : 18
  return dome + figure.length * DIGIT * FIGURE + (hasUnit ? (unitWords(unit).length + 1) * DIGIT * UNIT : 0)
}

/** How wide each column has to be for its name in two lines, its kind in one, and its figures. */
export function columnWidths(table: Arranged, isDense: boolean): number[] {
  const rows = table.groups.flatMap((group) => group.rows)
  return table.columns.map((column, at) => {
    const lines = [...column.name.split(/[\s-]+/), ...column.heading.split(/(?<=,) /)]
    const longest = Math.max(...lines.map((line) => width(line, HEAD)), width(column.name, HEAD) / 2)
    const widest = rows.reduce((most, row) => Math.max(most, cellWidth(row.byColumn[at])), 0)
    return Math.ceil(Math.max(isDense ? 48 : 84, longest, widest) + (isDense ? 6 : 10))
  })
}

/** How wide the names of rows are. */
export function nameWidth(table: Arranged): number {
  const all = table.groups.flatMap((group) => group.rows)
  return Math.ceil(
    Math.min(
      all.reduce((most, row) => Math.max(most, width(row.name, FIGURE) + 34), 112),
      220,
    ),
  )
}

export function useSight(
  scroller: Readonly<Ref<HTMLElement | null>>,
  lines: Readonly<Ref<Line[]>>,
  widths: Readonly<Ref<number[]>>,
  leading: Readonly<Ref<number>>,
) {
  const window = { width: globalThis.innerWidth, height: globalThis.innerHeight }
  const down = useVirtualizer<HTMLElement, HTMLElement>(
    computed(() => {
      const all = lines.value
      return {
        count: all.length,
        getScrollElement: () => scroller.value,
        estimateSize: (at: number) => (all[at]?.row === null ? HEADING : ROW),
        overscan: MARGIN_ROWS,
        initialRect: window,
        // The heading and the sums stay in sight above and below.
        scrollPaddingStart: 70,
        scrollPaddingEnd: 40,
      }
    }),
  )
  const across = useVirtualizer<HTMLElement, HTMLElement>(
    computed(() => {
      const all = widths.value
      return {
        count: all.length,
        horizontal: true,
        getScrollElement: () => scroller.value,
        estimateSize: (at: number) => all[at] ?? 0,
        overscan: MARGIN_COLUMNS,
        initialRect: window,
        paddingStart: leading.value,
        scrollPaddingStart: leading.value,
      }
    }),
  )
  watch(lines, () => down.value.measure())
  watch(widths, () => across.value.measure())

  /* The lines that are drawn, and the room of those above and below. */
  const drawn = computed(() => {
    const items = down.value.getVirtualItems()
    const [first, last] = [items[0], items[items.length - 1]]
    return {
      lines: items.flatMap((item) => {
        const line = lines.value[item.index]
        return line ? [{ ...line, index: item.index }] : []
      }),
      above: first?.start ?? 0,
      below: last ? down.value.getTotalSize() - last.end : 0,
    }
  })
  /* The columns that are drawn, from one to before another; a plain string, so that it changes only when they do. */
  const range = computed(() => {
    const items = across.value.getVirtualItems()
    return `${items[0]?.index ?? 0}-${(items[items.length - 1]?.index ?? -1) + 1}`
  })
  const columns = computed(() => {
    const [from = 0, to = 0] = range.value.split('-').map(Number)
    return { from, to }
  })
  /** Bring a row's cell into sight. */
  function reach(row: number, column: number): void {
    const line = lines.value.findIndex((one) => one.row?.index === row)
    if (line >= 0) down.value.scrollToIndex(line, { align: 'auto' })
    across.value.scrollToIndex(column, { align: 'auto' })
  }
  return { drawn, columns, reach }
}
