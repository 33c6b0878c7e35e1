<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, nextTick, ref, useTemplateRef } from 'vue'
import { useRouter } from 'vue-router'

import { api, answered } from '@/api/client'
import { useClock } from '@/app/clock'
import { written } from '@/app/format'
import { useFresh } from '@/app/fresh'
import { usePage } from '@/app/page'
import { useKept } from '@/app/query'
import Choice from '@/parts/Choice.vue'
import Dome from '@/parts/Dome.vue'
import Trouble from '@/parts/Trouble.vue'
import Waiting from '@/parts/Waiting.vue'

import CellPopover from './CellPopover.vue'
import { arranged, silentFor, type Cell } from './arrangement'

const MEASURES = [
  { key: 'p95', label: 'p95 time', title: '95th percentile of the window' },
  { key: 'p50', label: 'median', title: '50th percentile of the window' },
  { key: 'loss', label: 'loss', title: 'share of packets lost, by reach probes' },
  { key: 'availability', label: 'availability', title: 'share of runs that were ok' },
] as const
const ROWS = [
  { key: 'provider', label: 'provider' },
  { key: 'kind', label: 'kind' },
  { key: 'none', label: 'worst first' },
] as const

const router = useRouter()
const { asked, now } = useClock()
useFresh()

const measure = useKept('measure', 'p95', ['p50', 'p95', 'loss', 'availability'])
const kind = useKept<string>('probes', 'any')
const rowsBy = useKept('rows', 'provider', ['provider', 'kind', 'none'])
const search = useKept<string>('find', '')

const kinds = useQuery({
  queryKey: ['kinds'],
  queryFn: () => answered(api.GET('/api/probe-kinds')),
  staleTime: Infinity,
})
const probes = useQuery({
  queryKey: ['probes'],
  queryFn: () => answered(api.GET('/api/probes')),
  refetchInterval: 30_000,
})
/* Only kinds that some probe is of; the chosen one stays, or nobody could leave it. */
const kindChoices = computed(() => {
  const used = new Set([...(probes.data.value ?? []).map((one) => one.kind), kind.value])
  const shown = (kinds.data.value ?? []).filter((one) => used.has(one.name))
  return [{ key: 'any', label: 'any' }, ...shown.map((one) => ({ key: one.name, label: one.label }))]
})
const matrix = useQuery({
  queryKey: ['matrix', measure, kind, asked],
  queryFn: () =>
    answered(
      api.GET('/api/matrix', {
        params: {
          query: { ...asked.value, measure: measure.value, kind: kind.value === 'any' ? null : kind.value },
        },
      }),
    ),
})

const data = computed(() => matrix.data.value)
const table = computed(() => (data.value ? arranged(data.value, rowsBy.value, search.value) : null))
usePage(
  () => 'Matrix',
  () => (data.value ? `${data.value.rows.length} vantage points, ${data.value.columns.length} targets` : ''),
)

/* The popover of the cell that is pointed at or focused. */
const box = useTemplateRef<HTMLElement>('box')
const looked = ref<{ cell: Cell; left: number; top: number; bottom: number } | null>(null)
let timer = 0
function look(cell: Cell, event: Event, wait: number): void {
  const element = event.currentTarget as HTMLElement
  clearTimeout(timer)
  timer = window.setTimeout(() => {
    const frame = box.value?.getBoundingClientRect()
    const bounds = element.getBoundingClientRect()
    if (!frame) return
    looked.value = {
      cell,
      left: bounds.left - frame.left,
      top: bounds.top - frame.top,
      bottom: bounds.bottom - frame.top,
    }
  }, wait)
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

/* Arrow keys walk the cells. */
const at = ref({ row: 0, column: 0 })
async function walk(event: KeyboardEvent, row: number, column: number): Promise<void> {
  const step = { ArrowUp: [-1, 0], ArrowDown: [1, 0], ArrowLeft: [0, -1], ArrowRight: [0, 1] }[event.key]
  if (event.key === 'Escape') looked.value = null
  if (!step) return
  event.preventDefault()
  const [down = 0, right = 0] = step
  for (let distance = 1; distance < 50; distance++) {
    const next = box.value?.querySelector<HTMLElement>(
      `[data-cell="${row + down * distance}-${column + right * distance}"]`,
    )
    if (!next) continue
    at.value = { row: row + down * distance, column: column + right * distance }
    await nextTick()
    next.focus()
    return
  }
}
function isHere(row: number, column: number): boolean {
  return at.value.row === row && at.value.column === column
}
</script>

<template>
  <p v-if="data && data.rows.length" class="mt-3 max-w-[90ch] text-5 leading-[1.42] tracking-[-.004em] text-pretty">
    {{ data.sentence }}
    <span class="text-ink-2">{{ data.whole.not_fine }} of {{ data.whole.streams }} streams are not fine.</span>
  </p>
  <div class="mt-[11px] mb-2 flex flex-wrap items-center gap-x-2.5 gap-y-1.5">
    <Choice v-model="measure" :options="MEASURES" label="measure" />
    <span class="ml-2 text-2 text-ink-2">probes</span>
    <Choice v-model="kind" :options="kindChoices" label="kind of probe" />
    <span class="ml-2 text-2 text-ink-2">rows by</span>
    <Choice v-model="rowsBy" :options="ROWS" label="rows by" />
    <span class="flex-1" />
    <input
      v-model="search"
      class="h-7 w-40 border-b border-rule-strong bg-transparent px-1 text-2 placeholder:text-ink-3"
      placeholder="narrow by name or place"
      aria-label="Narrow by name or place"
    />
  </div>

  <Trouble v-if="matrix.isError.value" what="The matrix" :error="matrix.error.value" @again="matrix.refetch()" />
  <Waiting v-if="matrix.isPending.value" what="Reading every vantage point towards every target." />

  <div v-if="table && data && data.rows.length === 0" class="max-w-[56ch] py-6 text-ink-2">
    <b class="block text-4 text-ink">Nothing is measured yet{{ kind === 'any' ? '' : ' by this kind of probe' }}.</b>
    A cell appears here for each vantage point that runs a probe towards a target.
    <RouterLink to="/vantage-points?put=yes" class="go">Put an agent on a machine</RouterLink>, then add a target and a
    probe through the API.
  </div>
  <div v-else-if="table && data" ref="box" class="relative max-phone:overflow-x-auto">
    <table class="w-full border-collapse">
      <thead>
        <tr>
          <th colspan="2" class="border-b border-rule-strong pb-1 align-bottom text-2 font-bold">
            worst first
            <svg class="inline-block align-[-1px]" width="8" height="10" viewBox="0 0 8 10" aria-hidden="true">
              <path d="M4 0V9M1 6L4 9L7 6" fill="none" stroke="currentColor" stroke-width="1.4" />
            </svg>
          </th>
          <th
            v-for="column in table.columns"
            :key="column.id"
            class="border-b border-rule-strong pr-[9px] pb-1 text-right align-bottom text-2 leading-[15px]"
            :class="{ 'shadow-[inset_0_-2px_0_var(--ink)]': looked?.cell.target === column.id }"
            :title="column.description"
          >
            {{ column.name }}<br /><span class="text-ink-3">{{ column.heading }}</span>
          </th>
          <th class="border-b border-rule-strong pb-1 text-right align-bottom text-2 leading-[15px]">
            not fine<br /><span class="text-ink-3">of its streams</span>
          </th>
        </tr>
      </thead>
      <tbody v-for="group in table.groups" :key="group.name">
        <tr v-if="group.name">
          <th colspan="2" class="h-[27px] border-b border-rule-strong pb-0.5 align-bottom text-2 whitespace-nowrap">
            <b class="mr-1.5 text-3">{{ group.name }}</b>
            <span :class="group.ink">{{ group.told }}</span>
          </th>
          <td :colspan="table.columns.length + 1" class="border-b border-rule-strong" />
        </tr>
        <tr v-for="row in group.rows" :key="row.id">
          <th
            class="sticky left-0 z-[1] w-[112px] border-b border-rule bg-ground pr-2 pl-2.5 text-3 font-mid whitespace-nowrap"
            :class="{ 'bg-sheet': looked?.cell.vantage_point === row.id }"
          >
            {{ row.name }}
            <Dome v-if="row.isSilent" state="silent" :width="12" />
          </th>
          <td class="w-[150px] max-w-[190px] truncate border-b border-rule pr-2 text-2 text-ink-3">{{ row.place }}</td>
          <td
            v-if="row.isSilent"
            :colspan="table.columns.length"
            class="hatched h-[23px] border-b border-l border-rule text-center text-2 text-silent-ink"
          >
            <RouterLink
              v-if="row.cells[0]"
              :to="`/streams/${row.cells[0].shown ?? row.cells[0].streams[0]?.stream}`"
              class="hover:underline"
            >
              {{ silentFor(row, now) }}
            </RouterLink>
          </td>
          <template v-else>
            <td
              v-for="(cell, index) in row.byColumn"
              :key="table.columns[index]?.id ?? index"
              class="relative h-[23px] min-w-[88px] border-b border-l border-rule pr-[9px] text-right"
              :class="cell ? 'cursor-pointer' : 'text-1 text-ink-3'"
              :data-cell="cell ? `${row.index}-${index}` : undefined"
              :tabindex="cell ? (isHere(row.index, index) ? 0 : -1) : undefined"
              :role="cell ? 'link' : undefined"
              :aria-label="cell ? row.spoken[index] : undefined"
              @click="cell && openCell(cell)"
              @keydown.enter="cell && openCell(cell)"
              @keydown="walk($event, row.index, index)"
              @pointerenter="cell && look(cell, $event, 150)"
              @pointerleave="lookAway"
              @focus="cell && look(cell, $event, 0)"
              @blur="lookAway"
            >
              <template v-if="cell">
                <Dome
                  v-if="cell.state !== 'fine'"
                  :state="cell.state"
                  :width="12"
                  is-ink
                  is-mute
                  class="absolute bottom-[7px] left-[7px]"
                />
                <span v-if="cell.state === 'silent' && cell.figure.value === null" class="text-2 text-silent-ink"
                  >silent</span
                >
                <span v-else :class="{ 'text-ink-3 italic': cell.figure.is_few && cell.figure.value !== null }"
                  >{{ written(cell.figure.value, cell.figure.unit).figure
                  }}<span
                    v-if="cell.figure.unit !== 'ms' && cell.figure.unit !== '1' && cell.figure.value !== null"
                    class="unit !ml-0"
                    >{{ ` ${written(cell.figure.value, cell.figure.unit).unit}` }}</span
                  ></span
                >
              </template>
              <template v-else>no probe</template>
            </td>
          </template>
          <td class="border-b border-rule text-right text-2 whitespace-nowrap">
            <span :class="row.summary.not_fine ? 'font-mid' : 'text-ink-3'">{{ row.summary.not_fine }}</span>
            <span class="text-ink-3"> of {{ row.summary.streams }}</span>
          </td>
        </tr>
      </tbody>
      <tfoot>
        <tr class="text-2">
          <th colspan="2" class="h-7 text-ink-2">not fine</th>
          <td v-for="column in table.columns" :key="column.id" class="pr-[9px] text-right">
            <span :class="column.summary.not_fine ? 'font-bold text-ink' : 'text-ink-3'">{{
              column.summary.not_fine
            }}</span>
            <span class="text-ink-3"> of {{ column.summary.streams }}</span>
          </td>
          <td class="text-right">
            <b>{{ data.whole.not_fine }}</b> <span class="text-ink-3">of {{ data.whole.streams }}</span>
          </td>
        </tr>
      </tfoot>
    </table>
    <p v-if="table.groups.length === 0" class="py-4 text-ink-2">
      No vantage point or target is called that. <button class="go" @click="search = ''">Show all</button>
    </p>
    <p class="mt-1.5 flex flex-wrap gap-x-[18px] text-2 text-ink-2">
      <span>{{ table.caption }}</span>
      <span><Dome state="degraded" :width="12" /> degraded</span>
      <span><Dome state="breached" :width="12" /> breached</span>
      <span><Dome state="silent" :width="12" /> silent</span>
      <span class="italic">slanted: under 30 samples, too few to say</span>
    </p>
    <CellPopover
      v-if="looked"
      :key="`${looked.cell.vantage_point}-${looked.cell.target}`"
      :cell="looked.cell"
      :matrix="data"
      :left="looked.left"
      :top="looked.top"
      :bottom="looked.bottom"
      @pointerenter="stay"
      @pointerleave="lookAway"
    />
  </div>
</template>
