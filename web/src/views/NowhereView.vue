<script setup lang="ts">
import { RouterLink } from 'vue-router'

import { usePage } from '@/app/page'

usePage(() => 'Not here')
</script>

<template>
  <div class="max-w-[52ch] py-6 text-ink-2">
    <b class="block text-4 text-ink">There is nothing at this address.</b>
    It may be mistyped, or what was here was removed. <RouterLink to="/matrix" class="go">See the matrix</RouterLink>
  </div>
</template>
