<script setup lang="ts">
import { ref } from 'vue'

/** Words that belong to a thing, as chips; Enter or a comma ends one. */
const tags = defineModel<string[]>({ required: true })
defineProps<{ label: string }>()
const text = ref('')

function add(): void {
  for (const one of text.value.split(',').map((part) => part.trim())) {
    if (one && !tags.value.includes(one)) tags.value = [...tags.value, one]
  }
  text.value = ''
}
function typed(event: KeyboardEvent): void {
  if (event.key === 'Enter' || event.key === ',') {
    event.preventDefault()
    add()
  } else if (event.key === 'Backspace' && !text.value) {
    tags.value = tags.value.slice(0, -1)
  }
}
</script>

<template>
  <div>
    <span class="mb-0.5 block text-2 text-ink-2">{{ label }}</span>
    <div class="flex flex-wrap items-center gap-1.5">
      <span
        v-for="tag in tags"
        :key="tag"
        class="inline-flex items-center gap-1 rounded-full border border-accent bg-accent-wash pr-1 pl-2.5 text-2 leading-[22px]"
      >
        {{ tag }}
        <button
          type="button"
          class="size-5 text-ink-2 hover:text-ink"
          :aria-label="`Remove ${tag}`"
          @click="tags = tags.filter((one) => one !== tag)"
        >
          ×
        </button>
      </span>
      <input
        v-model="text"
        class="inp h-7 w-28"
        :aria-label="`${label}: add one`"
        placeholder="add one"
        @keydown="typed"
        @blur="add"
      />
    </div>
  </div>
</template>
