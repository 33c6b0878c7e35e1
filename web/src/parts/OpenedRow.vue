<script setup lang="ts">
/** What a row of a table opens beneath itself: a form, or a question before something is removed. */
defineProps<{ columns: number }>()
</script>

<template>
  <tr class="bg-sheet">
    <td :colspan="columns" class="border-y border-t-ink border-b-rule-strong px-3 py-2.5"><slot /></td>
  </tr>
</template>
