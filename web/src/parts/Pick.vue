<script setup lang="ts" generic="K extends string | number">
/** One of a list that is too long to stand on a line. */
defineProps<{
  options: readonly { key: K; label: string }[]
  label: string
  /** What it is called where the words around it are not seen. */
  spoken?: string
}>()
const chosen = defineModel<K>({ required: true })
</script>

<template>
  <label class="text-2 whitespace-nowrap text-ink-2">
    {{ label }}
    <select
      v-model="chosen"
      :aria-label="spoken ?? label"
      class="ml-1 max-w-44 border-b border-rule-strong bg-transparent py-0.5 text-3 text-ink"
    >
      <option v-for="option in options" :key="option.key" :value="option.key">{{ option.label }}</option>
    </select>
  </label>
</template>
