<script setup lang="ts">
/** A number with its unit inside the field, at the right. */
defineProps<{
  id?: string
  unit?: string
  min?: number | undefined
  max?: number | undefined
  placeholder?: string
  label?: string
  isInvalid?: boolean
  isNeeded?: boolean
  describedBy?: string | undefined
}>()
const value = defineModel<number | null>({ required: true })

function taken(event: Event): void {
  const text = (event.target as HTMLInputElement).value.trim()
  value.value = text === '' ? null : Number(text)
}
</script>

<template>
  <span class="relative block">
    <input
      :id="id"
      class="inp"
      :class="{ 'pr-14': (unit ?? '').length > 2, 'pr-8': unit && unit.length <= 2 }"
      type="number"
      step="any"
      :min="min"
      :max="max"
      :required="isNeeded"
      :placeholder="placeholder ?? ''"
      :aria-label="label"
      :aria-invalid="isInvalid"
      :aria-describedby="describedBy"
      :value="value"
      @change="taken"
    />
    <span class="pointer-events-none absolute top-1 right-2 text-2 text-ink-3">{{ unit }}</span>
  </span>
</template>
