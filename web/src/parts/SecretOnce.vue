<script setup lang="ts">
import { ref } from 'vue'

/** Something that is shown this once: copy it now. */
const props = defineProps<{ text: string; label: string }>()
const isCopied = ref(false)
async function copy(): Promise<void> {
  try {
    await navigator.clipboard.writeText(props.text)
    isCopied.value = true
  } catch {
    // Without the right to the clipboard, the text is there to be marked by hand.
    isCopied.value = false
  }
}
</script>

<template>
  <div>
    <code
      class="block rounded-sm bg-sunk px-[9px] py-[7px] font-mono text-[12px] leading-normal [overflow-wrap:anywhere] select-all"
      :aria-label="label"
      >{{ text }}</code
    >
    <p class="mt-1 flex items-center justify-between text-2 text-ink-2">
      <span>Shown this once.</span>
      <button class="btn h-6" type="button" @click="copy">{{ isCopied ? 'Copied' : 'Copy' }}</button>
    </p>
  </div>
</template>
