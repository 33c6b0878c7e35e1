<script setup lang="ts">
import { ref } from 'vue'
import { RouterView } from 'vue-router'

import ClockLine from './ClockLine.vue'
import FindBox from './FindBox.vue'
import Rail from './Rail.vue'
import TimeRibbon from './TimeRibbon.vue'
import { useClock } from './clock'

const isFinding = ref(false)
const { follow, unpin } = useClock()

function onKey(event: KeyboardEvent): void {
  const isTyping = event.target instanceof HTMLElement && /input|textarea|select/i.test(event.target.tagName)
  if (isTyping || event.metaKey || event.ctrlKey || event.altKey) return
  if (event.key === '/') {
    event.preventDefault()
    isFinding.value = true
  } else if (event.key === 'n') follow()
  else if (event.key === 'Escape') unpin()
}
window.addEventListener('keydown', onKey)
</script>

<template>
  <div class="grid min-h-screen grid-cols-[var(--rail-w)_minmax(0,1fr)] max-phone:block">
    <Rail @find="isFinding = true" />
    <main class="min-w-0 px-6 pb-10 max-phone:px-4">
      <ClockLine />
      <TimeRibbon />
      <RouterView v-slot="{ Component, route }">
        <component :is="Component" :key="route.path" />
      </RouterView>
    </main>
    <FindBox v-model:open="isFinding" />
  </div>
</template>
