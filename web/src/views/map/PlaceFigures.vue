<script setup lang="ts">
import { RouterLink } from 'vue-router'

import Dome from '@/parts/Dome.vue'
import Figure from '@/parts/Figure.vue'

import { stateOf, type Point } from './places'

/** Window, day, week and month of every vantage point of a place. */
defineProps<{ name: string; points: readonly Point[]; unit: string }>()
</script>

<template>
  <div>
    <p class="mb-1 text-3">
      <b>{{ name }}</b>
    </p>
    <table class="w-full border-collapse">
      <thead class="text-ink-3">
        <tr>
          <th class="pb-0.5">{{ unit }}</th>
          <th class="text-right">window</th>
          <th class="text-right">day</th>
          <th class="text-right">week</th>
          <th class="text-right">month</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in points.slice(0, 9)" :key="one.id" class="leading-[21px]">
          <td class="max-w-[140px] truncate border-t border-rule">
            <Dome :state="stateOf(one)" :width="12" class="mr-1" is-mute />
            <RouterLink :to="`/vantage-points/${one.id}`" class="hover:underline">{{ one.name }}</RouterLink>
            <span class="ml-1 text-ink-3">{{ one.provider }}</span>
          </td>
          <td class="border-t border-rule text-right font-mid"><Figure :of="one.window" without-unit /></td>
          <td class="border-t border-rule text-right"><Figure :of="one.day" without-unit /></td>
          <td class="border-t border-rule text-right"><Figure :of="one.week" without-unit /></td>
          <td class="border-t border-rule text-right"><Figure :of="one.month" without-unit /></td>
        </tr>
      </tbody>
    </table>
    <p v-if="points.length > 9" class="text-ink-3">and {{ points.length - 9 }} more: draw nearer</p>
  </div>
</template>
