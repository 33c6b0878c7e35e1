<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { answered, api, HubProblem, type Shapes } from '@/api/client'
import { useClock } from '@/app/clock'
import { full, moment, ms } from '@/app/format'
import { person as own } from '@/app/session'
import Field from '@/parts/Field.vue'
import OpenedRow from '@/parts/OpenedRow.vue'
import SecretOnce from '@/parts/SecretOnce.vue'
import Trouble from '@/parts/Trouble.vue'
import Waiting from '@/parts/Waiting.vue'

/** Who may sign in, and as what. */
const props = defineProps<{ search: string }>()
defineEmits<{ all: [] }>()
type Person = Shapes['PersonShape']
type Role = Shapes['Role']

const ROLES: { key: Role; may: string }[] = [
  { key: 'reader', may: 'sees everything' },
  { key: 'engineer', may: 'sees, and changes what is measured' },
  { key: 'admin', may: 'does all of it, and looks after people and tokens' },
]
const { now } = useClock()
const people = useQuery({ queryKey: ['people'], queryFn: () => answered(api.GET('/api/people')) })
const found = computed(() => {
  const wanted = props.search.trim().toLowerCase()
  return (people.data.value ?? []).filter((one) =>
    `${one.name} ${one.full_name} ${one.role}`.toLowerCase().includes(wanted),
  )
})

const isAdding = ref(false)
const draft = ref<{ name: string; full_name: string; role: Role }>({ name: '', full_name: '', role: 'reader' })
const wrong = ref<{ field: string; told: string } | null>(null)
const given = ref<{ who: string; password: string } | null>(null)
const asking = ref<number | null>(null)

async function attempt(act: () => Promise<void>): Promise<void> {
  wrong.value = null
  try {
    await act()
    await people.refetch()
  } catch (error) {
    if (!(error instanceof HubProblem)) throw error
    const { field, title, remedy } = error.problem
    wrong.value = { field: field ?? '', told: `${title ?? error.message} ${remedy ?? ''}` }
  }
}
const add = () =>
  attempt(async () => {
    const made = await answered(api.POST('/api/people', { body: draft.value }))
    given.value = { who: made.person.full_name, password: made.password }
    isAdding.value = false
    draft.value = { name: '', full_name: '', role: 'reader' }
  })
const change = (one: Person, changed: Partial<Person>) =>
  attempt(async () => {
    const { full_name, role, is_active } = { ...one, ...changed }
    await answered(
      api.PUT('/api/people/{person}', { params: { path: { person: one.id } }, body: { full_name, role, is_active } }),
    )
    asking.value = null
  })
const reset = (one: Person) =>
  attempt(async () => {
    const made = await answered(api.POST('/api/people/{person}/password', { params: { path: { person: one.id } } }))
    given.value = { who: made.person.full_name, password: made.password }
    asking.value = null
  })
</script>

<template>
  <Trouble v-if="people.isError.value" what="The people" :error="people.error.value" @again="people.refetch()" />
  <Waiting v-if="people.isPending.value" what="Reading who may sign in." />
  <div v-if="given" class="mb-3 max-w-[60ch] border-l-[3px] border-accent pl-[11px]">
    <p>
      <b>One-time password of {{ given.who }}.</b> Pass it on; it must be replaced at the first sign-in.
    </p>
    <SecretOnce :text="given.password" label="one-time password" class="mt-1" />
    <button class="go text-2" @click="given = null">It is passed on</button>
  </div>
  <p v-if="wrong && !isAdding" class="mb-2 border-l-[3px] border-breached pl-[11px] text-breached-ink" role="alert">
    {{ wrong.told }}
  </p>
  <div v-if="people.data.value" class="relative max-phone:overflow-x-auto">
    <table class="w-full border-collapse">
      <thead class="text-2 text-ink-3">
        <tr>
          <th class="border-b border-rule-strong py-[3px]">person</th>
          <th class="border-b border-rule-strong">signs in as</th>
          <th class="border-b border-rule-strong">role</th>
          <th class="border-b border-rule-strong">may</th>
          <th class="border-b border-rule-strong">last signed in</th>
          <th class="border-b border-rule-strong"><span class="sr-only">what to do</span></th>
        </tr>
      </thead>
      <tbody v-for="one in found" :key="one.id">
        <tr class="leading-[30px]">
          <th class="border-b border-rule font-mid whitespace-nowrap" :class="{ 'text-ink-3': !one.is_active }">
            {{ one.full_name }}
          </th>
          <td class="border-b border-rule pr-3">{{ one.name }}</td>
          <td class="border-b border-rule pr-3">
            <span v-if="!one.is_active" class="text-silent-ink">shut out</span>
            <select
              v-else
              class="inp h-6 w-28 py-0"
              :value="one.role"
              :aria-label="`role of ${one.full_name}`"
              :disabled="one.name === own?.name"
              :title="one.name === own?.name ? 'Another admin can change your own role.' : ''"
              @change="change(one, { role: ($event.target as HTMLSelectElement).value as Role })"
            >
              <option v-for="role in ROLES" :key="role.key" :value="role.key">{{ role.key }}</option>
            </select>
          </td>
          <td class="border-b border-rule pr-3 text-2 text-ink-2">
            {{
              one.is_active
                ? ROLES.find((role) => role.key === one.role)?.may
                : 'cannot sign in; what they did stays recorded'
            }}
          </td>
          <td class="border-b border-rule pr-3 whitespace-nowrap" :title="one.signed_in ? full(ms(one.signed_in)) : ''">
            {{ one.signed_in ? moment(ms(one.signed_in), now) : 'never' }}
            <span v-if="one.must_change" class="text-2 text-ink-3">one-time password</span>
          </td>
          <td class="border-b border-rule text-right text-2 whitespace-nowrap">
            <button v-if="!one.is_active" class="go" @click="change(one, { is_active: true })">Let in again</button>
            <button
              v-else-if="one.name !== own?.name"
              class="go"
              :aria-expanded="asking === one.id"
              @click="asking = asking === one.id ? null : one.id"
            >
              {{ asking === one.id ? 'close' : 'password, shut out' }}
            </button>
            <RouterLink v-else class="go" to="/password">Change your password</RouterLink>
          </td>
        </tr>
        <OpenedRow v-if="asking === one.id" :columns="6">
          <p class="mb-2">
            Either ends every session of {{ one.full_name }} at once. Whoever is shut out can be let in again, and what
            they set up stays.
          </p>
          <button class="btn" @click="reset(one)">Give a one-time password</button>
          <button class="btn btn-grave ml-2" @click="change(one, { is_active: false })">
            Shut {{ one.full_name }} out
          </button>
        </OpenedRow>
      </tbody>
    </table>
    <p v-if="found.length === 0" class="py-4 text-ink-2">
      Nobody is called that. <button class="go" @click="$emit('all')">Show all</button>
    </p>
  </div>
  <button v-if="people.data.value && !isAdding" class="btn btn-main mt-4" @click="isAdding = true">Add a person</button>
  <form v-if="isAdding" class="mt-4 max-w-[560px]" aria-label="Add a person" @submit.prevent="add">
    <h2 class="heading border-b border-rule-strong pb-1">Add a person</h2>
    <div class="mt-2 grid grid-cols-2 gap-x-4 gap-y-2.5 max-phone:grid-cols-1">
      <Field v-slot="{ id }" label="name in full" :error="wrong?.field === 'full_name' ? wrong.told : null">
        <input :id="id" v-model="draft.full_name" class="inp" required maxlength="80" />
      </Field>
      <Field
        v-slot="{ id, isInvalid }"
        label="signs in as"
        hint="letters, digits, . @ + - _"
        :error="wrong && wrong.field !== 'full_name' ? wrong.told : null"
      >
        <input :id="id" v-model="draft.name" class="inp" required maxlength="80" :aria-invalid="isInvalid" />
      </Field>
    </div>
    <fieldset class="mt-2.5">
      <legend class="text-2 text-ink-2">role</legend>
      <label v-for="role in ROLES" :key="role.key" class="flex min-h-6 items-center gap-2">
        <input v-model="draft.role" type="radio" name="role" :value="role.key" />
        {{ role.key }} <span class="text-2 text-ink-3">{{ role.may }}</span>
      </label>
    </fieldset>
    <div class="mt-3 flex gap-2.5">
      <button class="btn btn-main">Add, with a one-time password</button>
      <button type="button" class="btn" @click="isAdding = false">Leave it</button>
    </div>
  </form>
</template>
