<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, defineAsyncComponent, ref } from 'vue'
import { RouterLink } from 'vue-router'

import { api, answered, type Shapes } from '@/api/client'
import { useClock } from '@/app/clock'
import { signed } from '@/app/format'
import Choice from '@/parts/Choice.vue'
import Dome from '@/parts/Dome.vue'
import Figure from '@/parts/Figure.vue'
import Trouble from '@/parts/Trouble.vue'
import Waiting from '@/parts/Waiting.vue'

import type { SelectionKind } from './selection'

const WhereMap = defineAsyncComponent(() => import('./WhereMap.vue'))

/** Every vantage point's window, day, week and month; for one of them, how others do towards one of its targets. */
const props = defineProps<{
  of: SelectionKind
  id: number
  kind: string
  name: string
  targets: Shapes['TargetClassShape'][]
}>()
const FEW = 12
const { asked } = useClock()
const isOne = computed(() => props.of === 'vantage_point')
const chosenTarget = ref('')
const target = computed(() => Number(chosenTarget.value || props.targets[0]?.id || 0))
const isAll = ref(false)
const found = useQuery({
  queryKey: ['points', () => props.of, () => props.id, () => props.kind, target, asked],
  queryFn: () =>
    answered(
      api.GET('/api/overview/points', {
        params: {
          query: isOne.value
            ? { of: 'all', kind: props.kind, target: target.value, ...asked.value }
            : { of: props.of, id: props.id, kind: props.kind, ...asked.value },
        },
      }),
    ),
  enabled: computed(() => !isOne.value || target.value > 0),
})
const ORDER = { breached: 0, degraded: 1, silent: 2, fine: 3 }
const unit = computed(() => found.data.value?.unit ?? '')
const own = computed(() => found.data.value?.points.find((one) => one.id === props.id)?.window.value)
const rows = computed(() => {
  const all = [...(found.data.value?.points ?? [])].filter((one) => one.month.value !== null || one.summary.not_fine)
  if (isOne.value) {
    // From the worst to the best, so that one sees at which place it stands.
    all.sort((one, other) => (other.window.value ?? -1) - (one.window.value ?? -1))
  } else {
    all.sort(
      (one, other) =>
        ORDER[one.summary.not_fine ? one.summary.state : 'fine'] -
          ORDER[other.summary.not_fine ? other.summary.state : 'fine'] ||
        other.summary.not_fine - one.summary.not_fine ||
        (other.window.value ?? -1) - (one.window.value ?? -1),
    )
  }
  return all
})
const shown = computed(() => (isAll.value ? rows.value : rows.value.slice(0, FEW)))
const choices = computed(() => props.targets.map((one) => ({ key: String(one.id), label: one.name })))
const chosen = computed({ get: () => String(target.value), set: (value: string) => (chosenTarget.value = value) })
</script>

<template>
  <section v-if="!isOne || target" class="mt-4">
    <div class="flex flex-wrap items-baseline gap-x-3.5 border-b border-rule-strong pb-1">
      <h2 class="heading">{{ isOne ? 'Others, from the slowest' : 'From each vantage point' }}</h2>
      <Choice
        v-if="isOne && choices.length > 1"
        v-model="chosen"
        :options="choices"
        label="towards"
        is-plain
        class="text-2"
      />
      <span class="flex-1" />
      <span class="text-2 text-ink-3">medians</span>
    </div>
    <Trouble v-if="found.isError.value" what="The vantage points" :error="found.error.value" @again="found.refetch()" />
    <Waiting v-if="found.isPending.value" what="Reading day, week and month of every vantage point." />
    <div class="overflow-x-auto">
      <table v-if="found.data.value" class="w-full border-collapse text-2">
        <thead class="text-ink-3">
          <tr>
            <th class="py-[3px]">vantage point</th>
            <th>provider</th>
            <th class="text-right">not fine</th>
            <th class="text-right">window</th>
            <th v-if="isOne" class="text-right">to {{ name }}</th>
            <th class="text-right">day</th>
            <th class="text-right">week</th>
            <th class="text-right">month</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="row in shown" :key="row.id" class="leading-[23px]" :class="{ 'bg-sheet': isOne && row.id === id }">
            <td class="border-t border-rule whitespace-nowrap">
              <Dome :state="row.summary.not_fine ? row.summary.state : 'fine'" :width="12" class="mr-1.5" is-mute />
              <b v-if="isOne && row.id === id">{{ row.name }}</b>
              <RouterLink v-else :to="`/vantage-points/${row.id}`" class="hover:underline">{{ row.name }}</RouterLink>
            </td>
            <td class="border-t border-rule text-ink-2">{{ row.provider }}</td>
            <td class="border-t border-rule text-right">
              <template v-if="row.summary.not_fine"
                ><b>{{ row.summary.not_fine }}</b
                ><span class="text-ink-3">&nbsp;of {{ row.summary.streams }}</span></template
              >
            </td>
            <td class="border-t border-rule text-right font-mid"><Figure :of="row.window" /></td>
            <td v-if="isOne" class="border-t border-rule text-right text-ink-3">
              {{
                own != null && row.window.value !== null && row.id !== id ? signed(row.window.value - own, unit) : ''
              }}
            </td>
            <td class="border-t border-rule text-right"><Figure :of="row.day" without-unit /></td>
            <td class="border-t border-rule text-right"><Figure :of="row.week" without-unit /></td>
            <td class="border-t border-rule text-right"><Figure :of="row.month" without-unit /></td>
          </tr>
        </tbody>
      </table>
    </div>
    <button v-if="rows.length > FEW" class="go mt-1.5 text-2" @click="isAll = !isAll">
      {{ isAll ? 'fewer' : `all ${rows.length}` }}
    </button>
    <WhereMap v-if="!isOne && found.data.value" :points="found.data.value" />
  </section>
</template>
