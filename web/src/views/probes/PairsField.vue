<script setup lang="ts">
import { ref, watch } from 'vue'

/** Names with a value each: headers, secrets, addresses. A row that is begun is kept here until it has a name. */
const pairs = defineModel<Record<string, string>>({ required: true })
defineProps<{ label: string; title: string; error: string | null }>()
const rows = ref<[string, string][]>(Object.entries(pairs.value))

watch(pairs, (now) => {
  const named = Object.fromEntries(rows.value.filter(([name]) => name))
  if (JSON.stringify(now) !== JSON.stringify(named)) rows.value = Object.entries(now)
})
function put(index: number, part: 0 | 1, text: string): void {
  const row = rows.value[index]
  if (!row) return
  row[part] = text
  give()
}
function give(): void {
  pairs.value = Object.fromEntries(rows.value.filter(([name]) => name))
}
</script>

<template>
  <fieldset class="min-w-0" :title="title">
    <legend class="text-2 text-ink-2">{{ label }}</legend>
    <p v-for="(row, index) in rows" :key="index" class="mb-1 flex gap-1.5">
      <input
        class="inp h-7 w-40"
        placeholder="name"
        :aria-label="`${label}, name ${index + 1}`"
        :value="row[0]"
        @input="put(index, 0, ($event.target as HTMLInputElement).value)"
      />
      <input
        class="inp h-7 flex-1"
        placeholder="value"
        :type="label === 'secrets' ? 'password' : 'text'"
        autocomplete="new-password"
        :aria-label="`${label}, value ${index + 1}`"
        :value="row[1]"
        @input="put(index, 1, ($event.target as HTMLInputElement).value)"
      />
      <button type="button" class="go text-2" @click="(rows.splice(index, 1), give())">remove</button>
    </p>
    <button type="button" class="go text-2" @click="rows.push(['', ''])">add one to {{ label }}</button>
    <p v-if="error" class="text-2 text-breached-ink" role="alert">{{ error }}</p>
  </fieldset>
</template>
