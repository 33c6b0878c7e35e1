<script setup lang="ts">
import { ref } from 'vue'
import { RouterView, useRoute } from 'vue-router'

import ClockLine from './ClockLine.vue'
import FindBox from './FindBox.vue'
import Rail from './Rail.vue'
import TimeRibbon from './TimeRibbon.vue'
import { useClock } from './clock'

const route = useRoute()
const isFinding = ref(false)
const { follow, toggleAgainst, unpin } = useClock()

function onKey(event: KeyboardEvent): void {
  const isTyping = event.target instanceof HTMLElement && /input|textarea|select/i.test(event.target.tagName)
  if (route.meta.isBare || isTyping || event.metaKey || event.ctrlKey || event.altKey) return
  if (event.key === '/') {
    event.preventDefault()
    isFinding.value = true
  } else if (event.key === 'n') follow()
  else if (event.key === 'c') toggleAgainst()
  else if (event.key === 'Escape') unpin()
}
window.addEventListener('keydown', onKey)
</script>

<template>
  <RouterView v-if="route.meta.isBare" />
  <div v-else-if="route.name" class="grid min-h-screen grid-cols-[var(--rail-w)_minmax(0,1fr)] max-phone:block">
    <Rail @find="isFinding = true" />
    <main class="min-w-0 px-6 pb-10 max-phone:px-4">
      <ClockLine />
      <TimeRibbon />
      <RouterView v-slot="{ Component, route: shown }">
        <component :is="Component" :key="shown.path" />
      </RouterView>
    </main>
    <FindBox v-model:open="isFinding" />
  </div>
</template>
