<script setup lang="ts">
import { useId } from 'vue'

/** A labelled field; what is wrong with it is said below, in a sentence. */
defineProps<{ label: string; error?: string | null; hint?: string | undefined }>()
const id = useId()
</script>

<template>
  <div>
    <label :for="id" class="mb-0.5 block text-2 text-ink-2">{{ label }}</label>
    <slot :id="id" :is-invalid="Boolean(error)" :described-by="error || hint ? `${id}-told` : undefined" />
    <p v-if="error" :id="`${id}-told`" class="mt-0.5 text-2 text-breached-ink" role="alert">{{ error }}</p>
    <p v-else-if="hint" :id="`${id}-told`" class="mt-0.5 text-2 text-ink-3">{{ hint }}</p>
  </div>
</template>
