<script setup lang="ts">
import { onScopeDispose, ref } from 'vue'

/** Said only when a first reading takes longer than 400 ms. */
defineProps<{ what: string }>()
const isLong = ref(false)
const timer = setTimeout(() => (isLong.value = true), 400)
onScopeDispose(() => clearTimeout(timer))
</script>

<template>
  <div v-if="isLong" class="py-4 text-2 text-ink-2" aria-busy="true">
    {{ what }}
    <div class="mt-2 h-2.5 w-4/5 rounded-sm bg-sunk" />
    <div class="mt-2 h-2.5 w-3/5 rounded-sm bg-sunk" />
  </div>
</template>
