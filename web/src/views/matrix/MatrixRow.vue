<script setup lang="ts">
import { computed } from 'vue'
import { RouterLink } from 'vue-router'

import { written } from '@/app/format'
import Dome from '@/parts/Dome.vue'

import { silentFor, spoken, TINTS, type Arranged, type ArrangedRow, type Cell } from './arrangement'

/** One vantage point's row: drawn anew only when what it is given changes, since there may be ten thousand cells. */
const props = defineProps<{
  row: ArrangedRow
  columns: Arranged['columns']
  /** The columns in sight, up to before `to`. */
  from: number
  to: number
  isDense: boolean
  /** Which cell Tab reaches; −1 where it is in another row. */
  reached: number
  isLooked: boolean
  /** Whether figures are held against anything. */
  isHeld: boolean
  /** Since 1970, of a silent row alone: it says for how long. */
  minute: number
}>()
const drawn = computed(() =>
  props.row.byColumn.slice(props.from, props.to).map((cell, at) => ({ cell, index: props.from + at })),
)
const worst = computed(() => (props.row.isSilent ? null : props.row.worst))
/* What a cell is tinted by: its own usual level, or the comparison window when there is one. */
function tint(cell: Cell): string {
  return TINTS[(cell.departure?.level ?? 0) + 2] ?? ''
}
</script>

<template>
  <tr>
    <th
      scope="row"
      class="sticky left-0 z-[1] truncate border-b border-rule bg-ground pr-2 pl-2.5 text-3 font-mid"
      :class="{ 'bg-sheet': isLooked }"
      :title="`${row.name}, ${row.place}`"
    >
      {{ row.name }}
      <Dome v-if="row.isSilent" state="silent" :width="12" />
    </th>
    <td v-if="!isDense" class="truncate border-b border-rule pr-2 text-2 text-ink-3">
      {{ row.place }}
    </td>
    <td
      v-if="row.isSilent"
      :colspan="columns.length"
      class="hatched h-[23px] border-b border-l border-rule text-center text-2 text-silent-ink"
    >
      <RouterLink
        v-if="row.cells[0]"
        :to="`/streams/${row.cells[0].shown ?? row.cells[0].streams[0]?.stream}`"
        class="hover:underline"
      >
        {{ silentFor(row, minute * 60_000) }}
      </RouterLink>
    </td>
    <template v-else>
      <td v-if="from" :colspan="from" class="border-b border-rule" />
      <td
        v-for="{ cell, index } in drawn"
        :key="columns[index]?.id ?? index"
        class="relative h-[23px] border-b border-l border-rule text-right"
        :class="[
          isDense ? 'pr-1 whitespace-nowrap' : 'pr-[9px] whitespace-nowrap',
          cell ? `cursor-pointer ${tint(cell)}` : 'text-1 text-ink-3',
        ]"
        :data-cell="cell ? `${row.index}-${index}` : undefined"
        :tabindex="cell ? (reached === index ? 0 : -1) : undefined"
        :role="cell ? 'link' : undefined"
        :aria-label="cell ? spoken(row, columns[index], cell) : undefined"
      >
        <template v-if="cell">
          <Dome
            v-if="cell.state !== 'fine'"
            :state="cell.state"
            :width="12"
            is-ink
            is-mute
            class="absolute bottom-[7px]"
            :class="isDense ? 'left-[3px]' : 'left-[7px]'"
          />
          <span v-if="cell.state === 'silent' && cell.figure.value === null" class="text-2 text-silent-ink"
            >silent</span
          >
          <span
            v-else
            :class="{
              italic: cell.figure.is_few && cell.figure.value !== null,
              'text-ink-3': cell.figure.is_few && cell.figure.value !== null && !cell.departure?.level,
            }"
            >{{ written(cell.figure.value, cell.figure.unit).figure
            }}<span
              v-if="cell.figure.unit !== 'ms' && cell.figure.unit !== '1' && cell.figure.value !== null"
              class="unit !ml-0"
              :class="{ '!text-ink': (cell.departure?.level ?? 0) !== 0 }"
              >{{ ` ${written(cell.figure.value, cell.figure.unit).unit}` }}</span
            ></span
          >
        </template>
        <template v-else><span :class="{ 'sr-only': isDense }">no probe</span></template>
      </td>
      <td v-if="to < columns.length" :colspan="columns.length - to" class="border-b border-l border-rule" />
    </template>
    <td class="border-b border-rule text-right text-2 whitespace-nowrap">
      <span :class="row.summary.not_fine ? 'font-mid' : 'text-ink-3'">{{ row.summary.not_fine }}</span>
      <span class="text-ink-3"> of {{ row.summary.streams }}</span>
    </td>
    <td
      v-if="isHeld"
      class="border-b border-rule text-right text-2 whitespace-nowrap"
      :class="worst && worst.level > 1 ? 'font-mid text-breached-ink' : 'text-ink-3'"
    >
      {{ worst?.told }}
    </td>
  </tr>
</template>
