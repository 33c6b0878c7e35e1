<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { HubProblem } from '@/api/client'
import { usePage } from '@/app/page'
import { changePassword, person } from '@/app/session'
import Field from '@/parts/Field.vue'

import Shore from './Shore.vue'

usePage(() => 'Password')
const route = useRoute()
const router = useRouter()
const current = ref('')
const wanted = ref('')
const isBusy = ref(false)
const wrong = ref<{ field: string; told: string } | null>(null)

async function change(): Promise<void> {
  isBusy.value = true
  wrong.value = null
  try {
    await changePassword(current.value, wanted.value)
    const to = route.query.back
    await router.push(typeof to === 'string' && /^\/(?!\/)/.test(to) ? to : '/')
  } catch (error) {
    if (!(error instanceof HubProblem)) throw error
    const { field, title, remedy } = error.problem
    wrong.value = { field: field ?? '', told: field === 'current' ? `${title} ${remedy}` : (remedy ?? title ?? '') }
  } finally {
    isBusy.value = false
  }
}
</script>

<template>
  <Shore>
    <p class="mt-3 mb-3.5 text-5">
      {{ person?.must_change ? 'Choose a password of your own' : 'Choose another password' }}
    </p>
    <form aria-label="Choose a password" @submit.prevent="change">
      <input type="hidden" name="username" autocomplete="username" :value="person?.name" />
      <Field
        v-slot="{ id, isInvalid, describedBy }"
        :label="person?.must_change ? 'the one-time password' : 'the current one'"
        :error="wrong?.field === 'current' ? wrong.told : null"
        class="mb-[11px]"
      >
        <input
          :id="id"
          v-model="current"
          class="inp h-[34px] text-4"
          type="password"
          autocomplete="current-password"
          required
          autofocus
          :aria-invalid="isInvalid"
          :aria-describedby="describedBy"
        />
      </Field>
      <Field
        v-slot="{ id, isInvalid, describedBy }"
        label="the new one"
        :error="wrong && wrong.field !== 'current' ? wrong.told : null"
        hint="At least 15 characters; a short sentence will do. Signs you out everywhere else."
      >
        <input
          :id="id"
          v-model="wanted"
          class="inp h-[34px] text-4"
          type="password"
          autocomplete="new-password"
          required
          :aria-invalid="isInvalid"
          :aria-describedby="describedBy"
        />
      </Field>
      <div class="mt-4 flex items-center gap-3">
        <button class="btn btn-main h-[34px] px-[18px] text-[14px]" :disabled="isBusy">Keep it</button>
        <button v-if="!person?.must_change" type="button" class="go" @click="router.back()">Leave it as it is</button>
      </div>
    </form>
  </Shore>
</template>
