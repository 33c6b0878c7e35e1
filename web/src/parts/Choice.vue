<script setup lang="ts" generic="K extends string">
import { RadioGroup, RadioGroupOption } from '@headlessui/vue'

/** One of a few words on a line; the chosen one is bold and underlined. */
defineProps<{ options: readonly { key: K; label: string; title?: string }[]; label: string; isPlain?: boolean }>()
const chosen = defineModel<K>({ required: true })
</script>

<template>
  <RadioGroup
    v-model="chosen"
    class="inline-flex flex-wrap whitespace-nowrap"
    :class="isPlain ? 'gap-[11px]' : 'border-b border-rule-strong'"
    :aria-label="label"
  >
    <RadioGroupOption
      v-for="option in options"
      :key="option.key"
      v-slot="{ checked }"
      :value="option.key"
      :title="option.title ?? ''"
      class="choice"
    >
      <span
        class="inline-block leading-[22px]"
        :class="[
          checked ? 'font-bold text-ink shadow-[0_2px_0_var(--accent)]' : 'text-ink-2 hover:text-ink',
          isPlain ? '' : 'px-2',
        ]"
        >{{ option.label }}</span
      >
    </RadioGroupOption>
  </RadioGroup>
</template>
