<script setup lang="ts">
import { computed, ref } from 'vue'
import { RouterLink } from 'vue-router'

import type { Shapes } from '@/api/client'
import { download } from '@/app/csv'
import { change, inWords } from '@/app/format'
import { useKept } from '@/app/query'
import Dome from '@/parts/Dome.vue'
import Figure from '@/parts/Figure.vue'

import { CLASSES, type ClassKey, type SelectionKind } from './selection'

/** Every stream of it over the window: what it took mostly, on average and at most; narrowed by words and by class. */
const props = defineProps<{ members: Shapes['OverviewMember'][]; kind: string; of: SelectionKind; name: string }>()
const FEW = 15
const find = useKept<string>('find', '')
const only = useKept<ClassKey | ''>('class', '', ['', ...CLASSES.map((one) => one.key)])
const isAll = ref(false)
const ORDER = { breached: 0, degraded: 1, silent: 2, fine: 3 }
const found = computed(() => {
  const words = find.value.toLowerCase().split(/\s+/).filter(Boolean)
  const key = only.value
  return props.members
    .filter((one) => key === '' || (one.counts?.[key] ?? 0) > 0)
    .filter((one) =>
      words.every((word) =>
        `${one.vantage_point} ${one.target} ${one.probe} ${one.provider} ${one.kind_label}`
          .toLowerCase()
          .includes(word),
      ),
    )
    .sort(
      (one, other) =>
        (key === '' ? 0 : (other.counts?.[key] ?? 0) - (one.counts?.[key] ?? 0)) ||
        ORDER[one.state] - ORDER[other.state] ||
        (other.departure?.amount ?? -99) - (one.departure?.amount ?? -99),
    )
})
const shown = computed(() => (isAll.value ? found.value : found.value.slice(0, FEW)))
const className = computed(() => CLASSES.find((one) => one.key === only.value)?.told ?? '')
function apart(one: Shapes['OverviewMember']): string {
  if (!one.departure?.usual || one.p50.value === null) return ''
  return change(one.p50.value / one.departure.usual - 1)
}
function take(): void {
  download(`${props.name} streams`, [
    [
      'vantage point',
      'target',
      'probe',
      'kind',
      'state',
      'unit',
      'median',
      'mean',
      'maximum',
      'answered',
      'usual median',
    ],
    ...found.value.map((one) => [
      one.vantage_point,
      one.target,
      one.probe,
      one.kind_label,
      one.state,
      one.unit,
      one.p50.value,
      one.mean,
      one.most,
      one.answered.value,
      one.departure?.usual,
    ]),
  ])
}
</script>

<template>
  <section class="mt-4">
    <div class="flex flex-wrap items-baseline gap-x-3.5 border-b border-rule-strong pb-1 text-2">
      <h2 class="heading">Streams, needs first</h2>
      <button v-if="only" class="rounded-full border border-rule-strong px-2 leading-[18px]" @click="only = ''">
        runs {{ className }} ×
      </button>
      <span class="flex-1" />
      <button class="go" @click="take">CSV</button>
      <input
        v-model="find"
        class="w-40 border-b border-rule-strong bg-transparent px-1 placeholder:text-ink-3"
        placeholder="narrow by name"
        aria-label="Narrow by name"
      />
    </div>
    <p v-if="found.length === 0" class="py-3 text-ink-2">
      No stream fits. <button class="go" @click="((find = ''), (only = ''))">Show all</button>
    </p>
    <div v-else class="overflow-x-auto">
      <table class="w-full border-collapse text-2">
        <thead class="text-ink-3">
          <tr>
            <th class="py-[3px]">probe</th>
            <th v-if="of !== 'vantage_point'">from</th>
            <th v-if="of !== 'target'">to</th>
            <th v-if="only" class="text-right">such runs</th>
            <th class="text-right">median</th>
            <th class="text-right">mean</th>
            <th class="text-right">most</th>
            <th class="text-right">answered</th>
            <th class="text-right">to usual</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in shown" :key="one.stream" class="leading-[23px]">
            <td class="max-w-[210px] truncate border-t border-rule">
              <Dome :state="one.state" :width="12" class="mr-1.5" />
              <RouterLink :to="`/streams/${one.stream}`" class="hover:underline">{{ one.probe }}</RouterLink>
            </td>
            <td v-if="of !== 'vantage_point'" class="border-t border-rule whitespace-nowrap">
              {{ one.vantage_point }}
            </td>
            <td v-if="of !== 'target'" class="border-t border-rule whitespace-nowrap text-ink-2">{{ one.target }}</td>
            <td v-if="only" class="border-t border-rule text-right font-mid">{{ one.counts?.[only] }}</td>
            <td class="border-t border-rule text-right font-mid whitespace-nowrap"><Figure :of="one.p50" /></td>
            <td class="border-t border-rule text-right whitespace-nowrap">{{ inWords(one.mean, one.unit) }}</td>
            <td class="border-t border-rule text-right whitespace-nowrap">{{ inWords(one.most, one.unit) }}</td>
            <td class="border-t border-rule text-right whitespace-nowrap"><Figure :of="one.answered" /></td>
            <td
              class="border-t border-rule text-right whitespace-nowrap"
              :class="(one.departure?.level ?? 0) > 1 ? 'font-mid text-breached-ink' : 'text-ink-3'"
            >
              {{ apart(one) }}
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <button v-if="found.length > FEW" class="go mt-1.5 text-2" @click="isAll = !isAll">
      {{ isAll ? 'fewer' : `all ${found.length}` }}
    </button>
  </section>
</template>
