<script setup lang="ts">
import { computed, nextTick, ref, useTemplateRef } from 'vue'
import { useRouter } from 'vue-router'

import { useClock } from '@/app/clock'

import CellPopover from './CellPopover.vue'
import MatrixRow from './MatrixRow.vue'
import type { Arranged, Cell, Matrix } from './arrangement'
import { columnWidths, linesOf, nameWidth, useSight } from './sight'

const props = defineProps<{
  table: Arranged
  matrix: Matrix
  /** Whether figures are held against anything. */
  isHeld: boolean
}>()
const SUM = 62
const PLACE = 150
const POINTED_MS = 150
const router = useRouter()
const { against, now } = useClock()

/* Many targets stand closer, and the places of vantage points give them their room. */
const isDense = computed(() => props.table.columns.length > 9)
const leading = computed(() => (isDense.value ? 1 : 2))
const trailing = computed(() => (props.isHeld ? 2 : 1))
const rows = computed(() => props.table.groups.flatMap((group) => group.rows))
const lines = computed(() => linesOf(props.table.groups))
const widths = computed(() => columnWidths(props.table, isDense.value))
const names = computed(() => nameWidth(props.table))
const before = computed(() => names.value + (isDense.value ? 0 : PLACE))
const total = computed(() => widths.value.reduce((sum, one) => sum + one, before.value + SUM * trailing.value))
const scroller = useTemplateRef<HTMLElement>('scroller')
const { drawn, columns, reach } = useSight(scroller, lines, widths, before)
const shown = computed(() => props.table.columns.slice(columns.value.from, columns.value.to))
const right = computed(() => props.table.columns.length - columns.value.to)

/* The popover of the cell that is pointed at or focused. */
const box = useTemplateRef<HTMLElement>('box')
const looked = ref<{ cell: Cell; left: number; top: number; bottom: number } | null>(null)
let timer = 0
interface Pointed {
  cell: Cell
  element: HTMLElement
  row: number
  column: number
}
function cellOf(event: Event): Pointed | null {
  const element = (event.target as HTMLElement).closest<HTMLElement>('[data-cell]')
  const [row = -1, column = -1] = (element?.dataset.cell ?? '').split('-').map(Number)
  const cell = rows.value[row]?.byColumn[column]
  return element && cell ? { cell, element, row, column } : null
}
function onClick(event: MouseEvent): void {
  const found = cellOf(event)
  if (found) openCell(found.cell)
}
function onKey(event: KeyboardEvent): void {
  const found = cellOf(event)
  if (!found) return
  if (event.key === 'Enter') openCell(found.cell)
  else void walk(event, found.row, found.column)
}
function look(event: Event): void {
  const found = cellOf(event)
  if (!found) return
  clearTimeout(timer)
  timer = window.setTimeout(() => {
    const frame = box.value?.getBoundingClientRect()
    const bounds = found.element.getBoundingClientRect()
    if (!frame) return
    looked.value = {
      cell: found.cell,
      left: bounds.left - frame.left,
      top: bounds.top - frame.top,
      bottom: bounds.bottom - frame.top,
    }
  }, POINTED_MS)
}
function lookAway(): void {
  clearTimeout(timer)
  timer = window.setTimeout(() => (looked.value = null), 180)
}
function stay(): void {
  clearTimeout(timer)
}

function openCell(cell: Cell): void {
  const stream = cell.shown ?? cell.streams[0]?.stream
  if (stream) void router.push(`/streams/${stream}`)
}

/* Arrow keys walk the cells, also to those that are not in sight yet. */
const at = ref({ row: 0, column: 0 })
async function walk(event: KeyboardEvent, row: number, column: number): Promise<void> {
  const step = { ArrowUp: [-1, 0], ArrowDown: [1, 0], ArrowLeft: [0, -1], ArrowRight: [0, 1] }[event.key]
  if (event.key === 'Escape') looked.value = null
  if (!step) return
  event.preventDefault()
  const [down = 0, across = 0] = step
  let [nextRow, nextColumn] = [row + down, column + across]
  for (;;) {
    const next = rows.value[nextRow]
    if (!next || nextColumn < 0 || nextColumn >= props.table.columns.length) return
    if (!next.isSilent && next.byColumn[nextColumn]) break
    nextRow += down
    nextColumn += across
  }
  at.value = { row: nextRow, column: nextColumn }
  const wanted = `[data-cell="${nextRow}-${nextColumn}"]`
  if (!box.value?.querySelector(wanted)) reach(nextRow, nextColumn)
  for (let tries = 0; tries < 10; tries++) {
    await nextTick()
    const element = box.value?.querySelector<HTMLElement>(wanted)
    if (element) {
      element.focus()
      return
    }
    await new Promise(requestAnimationFrame)
  }
}
</script>

<template>
  <div ref="box" class="relative">
    <!-- It scrolls by itself, both ways, so that the targets' names and the sums stay in sight. -->
    <div
      ref="scroller"
      class="max-h-[max(16rem,calc(100vh-13.2rem))] overflow-auto [scroll-padding:70px_0_30px_120px] max-phone:max-h-[75vh]"
      @scroll="looked = null"
    >
      <table
        class="w-full table-fixed border-separate border-spacing-0"
        :style="{ minWidth: `${total}px` }"
        :aria-rowcount="lines.length + 2"
        :aria-colcount="table.columns.length + leading + trailing"
      >
        <colgroup>
          <col :style="{ width: `${names}px` }" />
          <col v-if="!isDense" :style="{ width: `${PLACE}px` }" />
          <col v-for="(width, index) in widths" :key="index" :style="{ width: `${width}px` }" />
          <col v-for="index in trailing" :key="`sum ${index}`" :style="{ width: `${SUM}px` }" />
        </colgroup>
        <thead>
          <tr aria-rowindex="1">
            <th scope="col" :colspan="leading" class="head corner pb-1 align-bottom text-2 font-bold">
              worst first
              <svg class="inline-block align-[-1px]" width="8" height="10" viewBox="0 0 8 10" aria-hidden="true">
                <path d="M4 0V9M1 6L4 9L7 6" fill="none" stroke="currentColor" stroke-width="1.4" />
              </svg>
            </th>
            <td v-if="columns.from" :colspan="columns.from" class="head" />
            <th
              v-for="(column, index) in shown"
              :key="column.id"
              scope="col"
              :aria-colindex="leading + columns.from + index + 1"
              class="head pb-1 text-right align-bottom text-2 leading-[15px]"
              :class="[
                isDense ? 'pr-1' : 'pr-[9px]',
                { 'shadow-[inset_0_-2px_0_var(--ink)]': looked?.cell.target === column.id },
              ]"
              :title="column.description"
            >
              {{ column.name }}<br /><span class="text-ink-3">{{ column.heading }}</span>
            </th>
            <td v-if="right" :colspan="right" class="head" />
            <th scope="col" class="head pb-1 text-right align-bottom text-2 leading-[15px]">
              not fine<br /><span class="text-ink-3">of its streams</span>
            </th>
            <th v-if="isHeld" scope="col" class="head pb-1 pl-2 text-right align-bottom text-2 leading-[15px]">
              worst<br /><span class="text-ink-3">against {{ against ? 'then' : 'usual' }}</span>
            </th>
          </tr>
        </thead>
        <!-- One listener for all cells, and rows that are drawn anew only when they change: there may be ten thousand. -->
        <tbody
          @click="onClick"
          @keydown="onKey"
          @pointerover="look"
          @pointerout="lookAway"
          @focusin="look"
          @focusout="lookAway"
        >
          <tr v-if="drawn.above" aria-hidden="true" :style="{ height: `${drawn.above}px` }" />
          <template v-for="line in drawn.lines" :key="line.row ? line.row.id : line.group.name">
            <tr v-if="line.row === null" :aria-rowindex="line.index + 2">
              <th
                scope="rowgroup"
                :colspan="leading + table.columns.length + trailing"
                class="h-[27px] border-b border-rule-strong pb-0.5 align-bottom text-2 whitespace-nowrap"
              >
                <span class="sticky left-0">
                  <b class="mr-1.5 text-3">{{ line.group.name }}</b>
                  <span :class="line.group.ink">{{ line.group.told }}</span>
                </span>
              </th>
            </tr>
            <MatrixRow
              v-else
              :aria-rowindex="line.index + 2"
              :row="line.row"
              :columns="table.columns"
              :from="columns.from"
              :to="columns.to"
              :is-dense="isDense"
              :reached="at.row === line.row.index ? at.column : -1"
              :is-looked="looked?.cell.vantage_point === line.row.id"
              :is-held="isHeld"
              :minute="line.row.isSilent ? Math.floor(now / 60_000) : 0"
            />
          </template>
          <tr v-if="drawn.below" aria-hidden="true" :style="{ height: `${drawn.below}px` }" />
        </tbody>
        <tfoot>
          <tr class="text-2" :aria-rowindex="lines.length + 2">
            <th scope="row" :colspan="leading" class="foot corner h-7 text-ink-2">not fine</th>
            <td v-if="columns.from" :colspan="columns.from" class="foot" />
            <td v-for="column in shown" :key="column.id" class="foot text-right" :class="isDense ? 'pr-1' : 'pr-[9px]'">
              <span :class="column.summary.not_fine ? 'font-bold text-ink' : 'text-ink-3'">{{
                column.summary.not_fine
              }}</span>
              <span class="text-ink-3"> of {{ column.summary.streams }}</span>
            </td>
            <td v-if="right" :colspan="right" class="foot" />
            <td class="foot text-right">
              <b>{{ matrix.whole.not_fine }}</b> <span class="text-ink-3">of {{ matrix.whole.streams }}</span>
            </td>
            <td v-if="isHeld" class="foot" />
          </tr>
        </tfoot>
      </table>
    </div>
    <CellPopover
      v-if="looked"
      :key="`${looked.cell.vantage_point}-${looked.cell.target}`"
      :cell="looked.cell"
      :matrix="matrix"
      :left="looked.left"
      :top="looked.top"
      :bottom="looked.bottom"
      @pointerenter="stay"
      @pointerleave="lookAway"
    />
  </div>
</template>

<style scoped>
/* Names and sums stay in sight; where they meet the rows' names they lie above both. */
.head,
.foot {
  position: sticky;
  z-index: 2;
  background: var(--ground);
}
.head {
  top: 0;
  border-bottom: 1px solid var(--rule-strong);
}
.foot {
  bottom: 0;
  border-top: 1px solid var(--rule-strong);
}
.corner {
  left: 0;
  z-index: 3;
}
</style>
