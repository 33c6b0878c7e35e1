<script setup lang="ts">
import { Popover, PopoverButton, PopoverPanel } from '@headlessui/vue'
import { computed, ref } from 'vue'

import type { Shapes } from '@/api/client'
import { useClock } from '@/app/clock'
import { download } from '@/app/csv'
import { full } from '@/app/format'
import { useSaved } from '@/app/saved'
import Pick from '@/parts/Pick.vue'

/** What can be done with a chart: read it as a table, take it as a file, pin it to Now. */
const props = defineProps<{
  name: string
  columns: readonly string[]
  /** The first of each row is the start of its slice. */
  rows: readonly (readonly (string | number | null | undefined)[])[]
  /** What its table holds, where it is not the chart under the name. */
  what?: string
  /** How many of the first columns are times. */
  times?: number
  /** The question behind it, as a program would ask it. */
  query: string
  chart?: Pick<Partial<Shapes['ChartBody']>, 'streams' | 'together' | 'quantity'>
  /** What else of the same streams can be pinned, by quantity. */
  others?: readonly { key: string; label: string }[]
}>()
const { window, isFollowing } = useClock()
const { keep } = useSaved()
const isOpen = ref(false)
const pinName = ref('')
const refresh = ref(60)
const picked = ref('')
const shown = computed(() =>
  (isOpen.value ? props.rows : []).map(([start, ...values]) => ({
    start: String(start),
    isGap: values.slice(0, 3).every((value) => value == null),
    values: values.map((value, at) => (at + 1 < (props.times ?? 1) && value ? full(Date.parse(String(value))) : value)),
  })),
)
/* Figures stand under each other by their last digit; words and times by their beginning. */
const isWords = computed(() => props.columns.map((_, at) => typeof props.rows[0]?.[at] === 'string'))

async function pin(close: () => void): Promise<void> {
  if (!props.chart) return
  const { from, to } = window.value
  const body: Shapes['ChartBody'] = {
    kind: 'chart',
    streams: [],
    ...props.chart,
    ...(picked.value ? { quantity: picked.value } : {}),
    refresh_s: refresh.value,
    ...(isFollowing.value
      ? { window_s: Math.round((to - from) / 1000) }
      : { from: new Date(from).toISOString(), to: new Date(to).toISOString() }),
  }
  await keep.mutateAsync({ name: pinName.value.trim(), body })
  close()
}
</script>

<template>
  <div class="text-2">
    <div class="flex flex-wrap items-baseline gap-x-3.5 gap-y-1 text-ink-2">
      <button class="go" :aria-expanded="isOpen" @click="isOpen = !isOpen">
        {{ isOpen ? 'close the table' : what ? `${what} as a table` : 'as a table' }}
      </button>
      <button
        class="go"
        title="What is shown, as a file"
        @click="download(what ? `${name}, ${what}` : name, [columns, ...rows])"
      >
        CSV
      </button>
      <Popover v-if="chart" v-slot="{ close }" class="relative">
        <PopoverButton class="go" @click="pinName = name.slice(0, 80)">pin to Now</PopoverButton>
        <PopoverPanel class="lifted absolute left-0 z-20 mt-1 w-[280px] px-3.5 py-2.5" focus>
          <form class="grid gap-2" @submit.prevent="pin(close)">
            <label>
              under the name
              <input
                v-model="pinName"
                class="w-full border-b border-rule-strong bg-transparent py-0.5 text-ink"
                maxlength="80"
                required
              />
            </label>
            <Pick v-if="others?.length" v-model="picked" :options="others" label="of it" />
            <label>
              asked for anew every
              <select v-model.number="refresh" class="border-b border-rule-strong bg-transparent text-ink">
                <option :value="10">10 s</option>
                <option :value="60">1 min</option>
                <option :value="300">5 min</option>
                <option :value="3600">1 h</option>
              </select>
            </label>
            <p class="text-1 text-ink-3">
              {{
                isFollowing
                  ? 'It keeps the length of this window, and follows now.'
                  : 'It keeps this window as it is held.'
              }}
            </p>
            <p v-if="keep.isError.value" class="text-breached-ink">{{ keep.error.value?.message }}</p>
            <button class="go justify-self-end">Pin it</button>
          </form>
        </PopoverPanel>
      </Popover>
      <slot />
    </div>
    <div
      v-if="isOpen"
      class="mt-2 max-h-[320px] overflow-auto border-y border-rule-strong"
      tabindex="0"
      role="region"
      :aria-label="`${what ? `${what}, ` : ''}${name} as a table`"
    >
      <p class="border-b border-rule py-1 text-1 text-ink-3">
        asked as <code class="break-all">{{ query }}</code>
      </p>
      <table class="w-full border-collapse">
        <thead class="sticky top-0 bg-ground">
          <tr>
            <th
              v-for="(column, index) in columns"
              :key="column"
              class="border-b border-rule-strong py-1 text-ink-3"
              :class="isWords[index] ? '' : 'text-right'"
            >
              {{ column }}
            </th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(row, at) in shown" :key="at" :class="row.isGap ? 'hatched' : ''">
            <td class="border-b border-rule pr-3 whitespace-nowrap">{{ full(Date.parse(row.start)) }}</td>
            <td
              v-for="(value, index) in row.values"
              :key="index"
              class="border-b border-rule"
              :class="[isWords[index + 1] ? 'pr-3' : 'text-right', { 'whitespace-nowrap': index + 1 < (times ?? 1) }]"
            >
              {{ value == null ? 'no result' : value.toLocaleString('en-GB') }}
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </div>
</template>
