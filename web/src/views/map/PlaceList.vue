<script setup lang="ts">
import { computed } from 'vue'
import { RouterLink } from 'vue-router'

import { inWords } from '@/app/format'
import Dome from '@/parts/Dome.vue'

import type { Place, Point, Target } from './places'

/** The same as the map in words: the way for keyboard and screen readers. */
const props = defineProps<{
  places: readonly Place[]
  nowhere: readonly Point[]
  targets: readonly Target[]
  unit: string
  looked: string
}>()
const emit = defineEmits<{ look: [key: string | null, wait: number]; choose: [key: string] }>()
const badTargets = computed(() =>
  props.targets
    .filter((one) => one.summary.is_affected)
    .sort((one, other) => other.summary.not_fine - one.summary.not_fine),
)
</script>

<template>
  <aside class="text-2 max-[1000px]:mt-4">
    <div class="flex items-baseline border-b border-rule-strong pb-1">
      <h2 class="heading flex-1">The same in words</h2>
      <span class="text-ink-3">worst first</span>
    </div>
    <ul>
      <li v-for="place in places" :key="place.key">
        <button
          class="w-full border-b border-rule py-1.5 text-left"
          :class="looked === place.key ? 'bg-sheet shadow-[inset_2px_0_0_var(--ink)] pl-2' : ''"
          @pointerenter="emit('look', place.key, 120)"
          @pointerleave="emit('look', null, 160)"
          @click="emit('choose', place.key)"
        >
          <span class="flex items-baseline gap-2"
            ><Dome :state="place.state" :width="14" /><b class="flex-1 font-mid">{{ place.name }}</b
            ><span>{{ inWords(place.points[0]?.window.value, unit) }}</span></span
          >
          <span v-if="place.state !== 'fine' || place.points.length > 1" class="block pl-[22px] text-ink-2">{{
            place.told
          }}</span>
        </button>
      </li>
    </ul>
    <template v-if="nowhere.length">
      <h2 class="heading mt-4 border-b border-rule-strong pb-1">No place yet</h2>
      <p class="py-1.5 text-ink-2">{{ nowhere.map((one) => one.name).join(', ') }}</p>
    </template>
    <div class="mt-4 flex items-baseline border-b border-rule-strong pb-1">
      <h2 class="heading flex-1">Targets</h2>
      <span class="text-ink-3">{{ badTargets.length }} of {{ targets.length }} affected</span>
    </div>
    <RouterLink
      v-for="one in badTargets"
      :key="one.id"
      :to="`/targets/${one.id}`"
      class="flex items-baseline gap-2 border-b border-rule leading-[25px] hover:bg-sheet"
    >
      <Dome :state="one.summary.state" :width="14" /><span class="flex-1">{{ one.name }}</span>
      <span class="text-ink-2">{{ one.summary.not_fine }} of {{ one.summary.streams }} streams</span>
    </RouterLink>
  </aside>
</template>
