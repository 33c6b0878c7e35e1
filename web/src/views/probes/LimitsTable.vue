<script setup lang="ts">
import { computed } from 'vue'

import type { Shapes } from '@/api/client'
import type { Wrong } from '@/app/doing'
import { unitWords } from '@/app/format'

/** Limits: for a quantity the degraded and the breached level, and where it clears. */
type Limit = Shapes['LimitShape']
const limits = defineModel<Limit[]>({ required: true })
const props = defineProps<{ kind: Shapes['KindShape']; wrong: Wrong | null }>()
const LEVELS = ['degraded', 'breached', 'clear'] as const
const told = computed(() => (props.wrong?.field.startsWith('limits') ? props.wrong.told : null))
const free = computed(() =>
  Object.keys(props.kind.quantities).filter((name) => !limits.value.some((one) => one.quantity === name)),
)

function set(index: number, level: (typeof LEVELS)[number], text: string): void {
  limits.value = limits.value.map((one, at) =>
    at === index ? { ...one, [level]: text.trim() === '' ? null : factor(one) * Number(text) } : one,
  )
}
/* Shares are typed as percent. */
function factor(limit: Limit): number {
  return limit.unit === '1' ? 0.01 : 1
}
function shown(limit: Limit, level: (typeof LEVELS)[number]): number | string {
  const value = limit[level]
  return value === null || value === undefined ? '' : Number((value / factor(limit)).toPrecision(12))
}
function add(event: Event): void {
  const select = event.target as HTMLSelectElement
  const name = select.value
  select.value = ''
  if (!name) return
  limits.value = [
    ...limits.value,
    { quantity: name, unit: props.kind.quantities[name] ?? 'ms', degraded: null, breached: null, clear: null },
  ]
}
</script>

<template>
  <table v-if="limits.length" class="w-full border-collapse">
    <thead class="text-2 text-ink-3">
      <tr>
        <th class="border-b border-rule py-[3px]">quantity</th>
        <th v-for="level in LEVELS" :key="level" class="w-[84px] border-b border-rule">{{ level }}</th>
        <th class="border-b border-rule"><span class="sr-only">what to do</span></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(limit, index) in limits" :key="limit.quantity">
        <td class="border-b border-rule py-1 pr-2 leading-[1.25]">
          {{ kind.labels[limit.quantity] ?? limit.quantity }}
          <span class="text-2 text-ink-3">{{ kind.worse[limit.quantity] === 'lower' ? 'under' : 'over' }}</span>
        </td>
        <td v-for="level in LEVELS" :key="level" class="border-b border-rule py-1 pr-1.5">
          <span class="relative block">
            <input
              class="inp h-7 pr-8"
              type="number"
              step="any"
              :aria-label="`${level} limit of ${kind.labels[limit.quantity] ?? limit.quantity}`"
              :value="shown(limit, level)"
              @change="set(index, level, ($event.target as HTMLInputElement).value)"
            />
            <span class="pointer-events-none absolute top-1 right-1.5 text-1 text-ink-3">{{
              unitWords(limit.unit)
            }}</span>
          </span>
        </td>
        <td class="border-b border-rule text-right text-2">
          <button
            type="button"
            class="go"
            :aria-label="`Remove the limit of ${kind.labels[limit.quantity] ?? limit.quantity}`"
            @click="limits = limits.filter((_, at) => at !== index)"
          >
            ×
          </button>
        </td>
      </tr>
    </tbody>
  </table>
  <p v-else class="text-2 text-ink-2">No limits: only failed runs count against it.</p>
  <select class="inp mt-1.5 h-7 w-56 py-0" aria-label="Add a limit" @change="add">
    <option value="">add a limit …</option>
    <option v-for="name in free" :key="name" :value="name">{{ kind.labels[name] ?? name }}</option>
  </select>
  <p v-if="told" class="mt-1 text-2 text-breached-ink" role="alert">{{ told }}</p>
</template>
