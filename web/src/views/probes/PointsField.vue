<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Shapes } from '@/api/client'

/** From where a probe is run: one by one, or all of a tag or a kind at once. */
const chosen = defineModel<number[]>({ required: true })
const props = defineProps<{ points: readonly Shapes['VantagePointShape'][] }>()
const search = ref('')
const sets = computed(() => {
  const found = new Map<string, number[]>()
  for (const one of props.points) {
    for (const name of [`${one.kind} points`, ...one.tags]) found.set(name, [...(found.get(name) ?? []), one.id])
  }
  return [...found].filter(([, ids]) => ids.length > 1)
})
const found = computed(() => {
  const wanted = search.value.trim().toLowerCase()
  return props.points.filter((one) =>
    [one.name, one.kind, one.provider, ...one.tags].some((text) => text.toLowerCase().includes(wanted)),
  )
})
function toggle(ids: number[]): void {
  const isIn = ids.every((one) => chosen.value.includes(one))
  const rest = chosen.value.filter((one) => !ids.includes(one))
  chosen.value = isIn ? rest : [...rest, ...ids]
}
</script>

<template>
  <div class="min-w-0">
    <p class="flex flex-wrap gap-1.5">
      <button
        v-for="[name, ids] in sets"
        :key="name"
        type="button"
        class="rounded-full border px-2.5 text-2 leading-[22px]"
        :class="
          ids.every((one) => chosen.includes(one)) ? 'border-accent bg-accent-wash' : 'border-rule-strong text-ink-2'
        "
        :aria-pressed="ids.every((one) => chosen.includes(one))"
        @click="toggle(ids)"
      >
        {{ name }} <span class="text-ink-3">{{ ids.length }}</span>
      </button>
      <input
        v-if="points.length > 8"
        v-model="search"
        class="inp h-7 w-36"
        placeholder="narrow"
        aria-label="Narrow the vantage points"
      />
    </p>
    <div class="mt-1 grid max-h-40 grid-cols-2 gap-x-3 overflow-y-auto">
      <label v-for="one in found" :key="one.id" class="flex min-h-6 items-center gap-2 truncate" :title="one.place">
        <input type="checkbox" :checked="chosen.includes(one.id)" @change="toggle([one.id])" />
        <span class="truncate"
          >{{ one.name }} <span class="text-2 text-ink-3">{{ one.provider }}</span></span
        >
      </label>
    </div>
    <p v-if="points.length === 0" class="text-ink-2">
      No vantage point is enrolled yet.
      <RouterLink class="go" to="/vantage-points?put=yes">Put an agent on a machine</RouterLink>.
    </p>
  </div>
</template>
