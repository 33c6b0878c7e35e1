<script setup lang="ts">
/** What can be done to all that is chosen in a list, above it. */
defineProps<{ count: number; what: string }>()
defineEmits<{ none: [] }>()
</script>

<template>
  <div
    class="mb-2 flex flex-wrap items-center gap-2 border-y border-t-ink border-b-rule-strong bg-sheet px-3 py-2"
    role="group"
    :aria-label="`Change the chosen ${what}`"
  >
    <b>{{ count }} chosen</b>
    <slot />
    <span class="flex-1" />
    <button class="go text-2" @click="$emit('none')">choose none</button>
  </div>
</template>
