<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { HubProblem } from '@/api/client'
import { usePage } from '@/app/page'
import { about, loadSession, signIn } from '@/app/session'
import Field from '@/parts/Field.vue'

import Shore from './Shore.vue'

usePage(() => 'Sign in')
const route = useRoute()
const router = useRouter()
const name = ref('')
const password = ref('')
const isShown = ref(false)
const isBusy = ref(false)
const wrong = ref<string | null>(null)
const people = computed(() => about.value?.demo_people ?? [])

async function enter(): Promise<void> {
  if (isBusy.value) return
  isBusy.value = true
  wrong.value = null
  try {
    await signIn(name.value.trim(), password.value)
    const to = route.query.back
    // Only a path of our own: an address from outside must not lead away.
    await router.push(typeof to === 'string' && /^\/(?!\/)/.test(to) ? to : '/')
  } catch (error) {
    if (!(error instanceof HubProblem)) throw error
    wrong.value = `${error.problem.title ?? 'The hub does not answer.'} ${error.problem.remedy ?? ''}`
    password.value = ''
  } finally {
    isBusy.value = false
  }
}

function enterAs(person: { name: string; password: string }): void {
  name.value = person.name
  password.value = person.password
  void enter()
}

if (about.value === null) loadSession().catch(() => (wrong.value = 'The hub does not answer. Look whether it runs.'))
</script>

<template>
  <Shore>
    <p class="mt-3 mb-3.5 text-5">
      Sign in<template v-if="about?.site">
        to <b>{{ about.site }}</b></template
      >
    </p>
    <form aria-label="Sign in" @submit.prevent="enter">
      <Field v-slot="{ id }" label="name" class="mb-[11px]">
        <input
          :id="id"
          v-model="name"
          class="inp h-[34px] text-4"
          name="username"
          autocomplete="username"
          required
          autofocus
        />
      </Field>
      <Field v-slot="{ id, isInvalid, describedBy }" label="password" :error="wrong">
        <div class="relative">
          <input
            :id="id"
            v-model="password"
            class="inp h-[34px] pr-14 text-4"
            name="password"
            :type="isShown ? 'text' : 'password'"
            autocomplete="current-password"
            required
            :aria-invalid="isInvalid"
            :aria-describedby="describedBy"
          />
          <button
            type="button"
            class="absolute top-1 right-2 min-h-6 text-2 text-accent-ink"
            :aria-pressed="isShown"
            @click="isShown = !isShown"
          >
            {{ isShown ? 'hide' : 'show' }}
          </button>
        </div>
      </Field>
      <div class="mt-4 mb-1 flex items-center gap-3">
        <button class="btn btn-main h-[34px] px-[18px] text-[14px]" :disabled="isBusy">Sign in</button>
        <span class="text-2 text-ink-2">Forgotten? An admin can reset it.</span>
      </div>
    </form>
    <template v-if="people.length" #below>
      <p class="mb-1">This is the demo, on this machine alone. Sign in as one of its people:</p>
      <ul>
        <li v-for="one in people" :key="one.name" class="flex items-baseline gap-2 border-t border-rule leading-[25px]">
          <button class="go leading-[1.3]" @click="enterAs(one)">{{ one.full_name }}</button>
          <span class="flex-1 text-ink-3">{{ one.role }}</span>
          <span>{{ one.name }} · {{ one.password }}</span>
        </li>
      </ul>
    </template>
  </Shore>
</template>
