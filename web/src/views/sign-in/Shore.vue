<script setup lang="ts">
import Harbour from './Harbour.vue'

/** The one column above the water line, and what stands below it. */
const host = location.hostname
</script>

<template>
  <main class="relative h-screen min-h-[560px] overflow-hidden">
    <Harbour class="absolute inset-x-0 top-[calc(62vh-251px)] h-[420px] w-full max-phone:opacity-35" />
    <div
      class="absolute bottom-[calc(38vh+30px)] left-[calc(50%+20px)] w-[336px] max-phone:inset-x-6 max-phone:bottom-[calc(38vh+40px)] max-phone:left-6 max-phone:w-auto"
    >
      <h1 class="text-[34px] leading-none font-[620] tracking-[-.018em]">Kuppel</h1>
      <slot />
    </div>
    <div
      class="absolute top-[calc(62vh+26px)] left-[calc(50%+20px)] w-[336px] text-2 text-ink-2 max-phone:right-6 max-phone:left-6 max-phone:w-auto"
    >
      <slot name="below">
        <p class="flex justify-between text-ink-3">
          <span>{{ host }}</span><span>The agents measure on, whoever is here.</span>
        </p>
      </slot>
    </div>
  </main>
</template>
