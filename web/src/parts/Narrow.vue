<script setup lang="ts">
/** The search of a list. */
defineProps<{ words: string }>()
const text = defineModel<string>({ required: true })
</script>

<template>
  <input
    v-model="text"
    class="h-7 w-52 border-b border-rule-strong bg-transparent px-1 text-2 placeholder:text-ink-3"
    :placeholder="words"
    :aria-label="words.charAt(0).toUpperCase() + words.slice(1)"
  />
</template>
