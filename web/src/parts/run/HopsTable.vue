<script setup lang="ts">
import { computed } from 'vue'

import type { Shapes } from '@/api/client'
import { inWords } from '@/app/format'

/** The hops of a path: how far each is, and what of it was lost. Parallel ones share a distance. */
const props = defineProps<{ hops: readonly Shapes['HopShape'][] }>()
const most = computed(() => Math.max(1e-6, ...props.hops.map((one) => one.rtt_us ?? 0)))
function isAlso(index: number): boolean {
  return index > 0 && props.hops[index - 1]?.ttl === props.hops[index]?.ttl
}
</script>

<template>
  <div class="mt-1 overflow-x-auto">
    <table class="w-full border-collapse text-2">
      <thead class="text-ink-3">
        <tr>
          <th class="w-8 border-b border-rule text-right">hop</th>
          <th class="border-b border-rule pl-3">address</th>
          <th class="border-b border-rule">name</th>
          <th class="w-[120px] border-b border-rule">round trip</th>
          <th class="w-[72px] border-b border-rule text-right" title="median of the run">median</th>
          <th class="border-b border-rule pl-4">answered</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(hop, index) in hops" :key="`${hop.ttl}/${hop.address}`" class="leading-[22px]">
          <td class="border-b border-rule text-right text-ink-3">{{ isAlso(index) ? 'or' : hop.ttl }}</td>
          <td class="border-b border-rule pl-3" :class="hop.address ? '' : 'text-ink-3'">
            {{ hop.address ?? 'gives no answer' }}
          </td>
          <td class="max-w-[24ch] truncate border-b border-rule pr-2 text-ink-2">{{ hop.name }}</td>
          <td class="border-b border-rule">
            <i
              v-if="hop.rtt_us"
              class="block h-[5px] min-w-px bg-line"
              :style="{ width: `${(hop.rtt_us / most) * 100}%` }"
            />
          </td>
          <td class="border-b border-rule text-right whitespace-nowrap">
            {{ hop.rtt_us ? inWords(hop.rtt_us / 1000, 'ms') : '' }}
          </td>
          <td class="border-b border-rule pl-4 text-ink-2">
            <template v-if="hop.address">
              {{ hop.answered === hop.sent ? 'all' : `${hop.answered} of ${hop.sent}` }}, along {{ hop.flows }}
              {{ hop.flows === 1 ? 'flow' : 'flows' }}
            </template>
            <span v-if="hop.note" class="text-breached-ink">{{ hop.note }}</span>
            <span v-for="label in hop.labels" :key="label"> label {{ label }}</span>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
