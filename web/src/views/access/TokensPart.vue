<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { answered, api, HubProblem, type Shapes } from '@/api/client'
import { useClock } from '@/app/clock'
import { full, moment, ms } from '@/app/format'
import Field from '@/parts/Field.vue'
import SecretOnce from '@/parts/SecretOnce.vue'
import Trouble from '@/parts/Trouble.vue'
import Waiting from '@/parts/Waiting.vue'

/** Tokens of programs, and those with which agents join. */
const props = defineProps<{ search: string }>()
defineEmits<{ all: [] }>()
type Scope = Shapes['Scope']

const SCOPES: { key: Scope; may: string }[] = [
  { key: 'see', may: 'read everything' },
  { key: 'edit', may: 'change targets and probes' },
  { key: 'administer', may: 'people, tokens, the record' },
]
const LASTS = [
  { days: 7, label: 'a week' },
  { days: 90, label: '90 days' },
  { days: 365, label: 'a year' },
  { days: null, label: 'until it is withdrawn' },
]
const { now } = useClock()
const tokens = useQuery({ queryKey: ['tokens'], queryFn: () => answered(api.GET('/api/tokens')) })
const joining = useQuery({
  queryKey: ['enrolment tokens'],
  queryFn: () => answered(api.GET('/api/enrolment-tokens')),
  refetchInterval: 5000,
})
const wanted = computed(() => props.search.trim().toLowerCase())
const found = computed(() =>
  (tokens.data.value ?? []).filter((one) => `${one.name} ${one.owner}`.toLowerCase().includes(wanted.value)),
)
const foundJoining = computed(() =>
  (joining.data.value ?? []).filter((one) =>
    `${one.name} ${one.made_by} ${one.place} ${one.tags.join(' ')}`.toLowerCase().includes(wanted.value),
  ),
)

const isMaking = ref(false)
const name = ref('')
const scopes = ref<Scope[]>(['see'])
const lasts = ref<number | null>(90)
const made = ref<{ name: string; secret: string } | null>(null)
const wrong = ref<string | null>(null)

async function attempt(act: () => Promise<void>): Promise<void> {
  wrong.value = null
  try {
    await act()
    await Promise.all([tokens.refetch(), joining.refetch()])
  } catch (error) {
    if (!(error instanceof HubProblem)) throw error
    wrong.value = `${error.problem.title ?? error.message} ${error.problem.remedy ?? ''}`
  }
}
const make = () =>
  attempt(async () => {
    const body = { name: name.value, scopes: scopes.value, expires_days: lasts.value }
    const answer = await answered(api.POST('/api/tokens', { body }))
    made.value = { name: answer.token.name, secret: answer.secret }
    isMaking.value = false
    name.value = ''
  })
const withdraw = (token: number) =>
  attempt(async () => {
    await answered(api.DELETE('/api/tokens/{token}', { params: { path: { token } } }))
  })
const withdrawJoining = (token: number) =>
  attempt(async () => {
    await answered(api.DELETE('/api/enrolment-tokens/{token}', { params: { path: { token } } }))
  })

function ends(one: { is_good: boolean; withdrawn: string | null; expires: string | null }): string {
  if (one.withdrawn) return `withdrawn ${moment(ms(one.withdrawn), now.value)}`
  if (one.expires === null) return 'never'
  return `${ms(one.expires) < now.value ? 'ended ' : ''}${moment(ms(one.expires), now.value)}`
}
</script>

<template>
  <Trouble v-if="tokens.isError.value" what="The tokens" :error="tokens.error.value" @again="tokens.refetch()" />
  <Waiting v-if="tokens.isPending.value" what="Reading the tokens." />
  <p v-if="wrong" class="mb-2 border-l-[3px] border-breached pl-[11px] text-breached-ink" role="alert">{{ wrong }}</p>
  <div v-if="made" class="mb-3 max-w-[70ch] border-l-[3px] border-accent pl-[11px]">
    <p>
      <b>Token “{{ made.name }}”.</b> A program shows it as <i>Authorization: Bearer …</i>
    </p>
    <SecretOnce :text="made.secret" label="token" class="mt-1" />
    <button class="go text-2" @click="made = null">It is kept</button>
  </div>
  <template v-if="tokens.data.value">
    <div class="flex items-baseline gap-3 border-b border-rule-strong pb-1">
      <h2 class="heading">For programs</h2>
      <span class="flex-1" />
      <button v-if="!isMaking" class="btn h-6" @click="isMaking = true">Make a token</button>
    </div>
    <form v-if="isMaking" class="max-w-[640px] py-2.5" aria-label="Make a token" @submit.prevent="make">
      <div class="flex flex-wrap gap-x-5 gap-y-2.5">
        <Field v-slot="{ id }" label="what it is for" class="w-60">
          <input :id="id" v-model="name" class="inp" required maxlength="80" placeholder="weekly report" />
        </Field>
        <Field v-slot="{ id }" label="good for" class="w-44">
          <select :id="id" v-model="lasts" class="inp py-0">
            <option v-for="one in LASTS" :key="one.label" :value="one.days">{{ one.label }}</option>
          </select>
        </Field>
      </div>
      <fieldset class="mt-2">
        <legend class="text-2 text-ink-2">may</legend>
        <label v-for="one in SCOPES" :key="one.key" class="mr-5 inline-flex min-h-6 items-center gap-2">
          <input v-model="scopes" type="checkbox" :value="one.key" />
          {{ one.key }} <span class="text-2 text-ink-3">{{ one.may }}</span>
        </label>
      </fieldset>
      <div class="mt-2.5 flex gap-2.5">
        <button class="btn btn-main" :disabled="scopes.length === 0">Make it</button>
        <button type="button" class="btn" @click="isMaking = false">Leave it</button>
      </div>
    </form>
    <p v-if="tokens.data.value.length === 0" class="py-2 text-ink-2">
      No program has a token. One that reads or changes things through the API needs one.
    </p>
    <div class="relative max-phone:overflow-x-auto">
      <table v-if="found.length" class="w-full border-collapse">
        <thead class="text-2 text-ink-3">
          <tr>
            <th class="border-b border-rule py-[3px]">for</th>
            <th class="border-b border-rule">of</th>
            <th class="border-b border-rule">may</th>
            <th class="border-b border-rule">last used</th>
            <th class="border-b border-rule">ends</th>
            <th class="border-b border-rule"><span class="sr-only">what to do</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in found" :key="one.id" class="leading-[26px]" :class="{ 'text-ink-3': !one.is_good }">
            <th class="border-b border-rule font-mid">{{ one.name }}</th>
            <td class="border-b border-rule">{{ one.owner }}</td>
            <td class="border-b border-rule">{{ one.scopes.join(', ') }}</td>
            <td class="border-b border-rule" :title="one.used ? full(ms(one.used)) : ''">
              {{ one.used ? moment(ms(one.used), now) : 'never' }}
            </td>
            <td class="border-b border-rule" :title="one.expires ? full(ms(one.expires)) : ''">{{ ends(one) }}</td>
            <td class="border-b border-rule text-right text-2">
              <button v-if="one.is_good" class="go" :aria-label="`Withdraw ${one.name}`" @click="withdraw(one.id)">
                Withdraw
              </button>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <div class="mt-6 flex items-baseline gap-3 border-b border-rule-strong pb-1">
      <h2 class="heading">With which agents join</h2>
      <span class="flex-1" />
      <RouterLink class="go text-2" to="/vantage-points?put=yes">Put an agent on a machine</RouterLink>
    </div>
    <p v-if="joining.data.value?.length === 0" class="py-2 text-ink-2">
      None was made yet. An agent trades one for a token of its own.
    </p>
    <div class="relative max-phone:overflow-x-auto">
      <table v-if="foundJoining.length" class="w-full border-collapse">
        <thead class="text-2 text-ink-3">
          <tr>
            <th class="border-b border-rule py-[3px]">for</th>
            <th class="border-b border-rule">kind and place</th>
            <th class="border-b border-rule">tags</th>
            <th class="border-b border-rule">made by</th>
            <th class="border-b border-rule text-right">joined</th>
            <th class="border-b border-rule pl-5">ends</th>
            <th class="border-b border-rule"><span class="sr-only">what to do</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in foundJoining" :key="one.id" class="leading-[26px]" :class="{ 'text-ink-3': !one.is_good }">
            <th class="border-b border-rule font-mid">{{ one.name || `machine ${one.id}` }}</th>
            <td class="border-b border-rule">{{ one.kind }}{{ one.place ? `, ${one.place}` : '' }}</td>
            <td class="border-b border-rule">{{ one.tags.join(', ') }}</td>
            <td class="border-b border-rule">{{ one.made_by }}</td>
            <td class="border-b border-rule text-right">{{ one.uses }} of {{ one.most_uses }}</td>
            <td class="border-b border-rule pl-5" :title="full(ms(one.expires))">{{ ends(one) }}</td>
            <td class="border-b border-rule text-right text-2">
              <button
                v-if="one.is_good"
                class="go"
                :aria-label="`Withdraw ${one.name || one.id}`"
                @click="withdrawJoining(one.id)"
              >
                Withdraw
              </button>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <p v-if="wanted && !found.length && !foundJoining.length" class="py-4 text-ink-2">
      No token is called that. <button class="go" @click="$emit('all')">Show all</button>
    </p>
  </template>
</template>
