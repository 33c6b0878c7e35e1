<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { answered, api, HubProblem, type Shapes } from '@/api/client'
import { useClock } from '@/app/clock'
import { clock, duration, inWords, ms, signed } from '@/app/format'
import Choice from '@/parts/Choice.vue'
import Field from '@/parts/Field.vue'
import SecretOnce from '@/parts/SecretOnce.vue'

/** A task of one minute beside the list: make a token, paste one line there, see the agent arrive. */
const emit = defineEmits<{ close: [] }>()
const KINDS = [
  { key: 'site', label: 'site', title: 'stands at a place of ours' },
  { key: 'mobile', label: 'mobile', title: 'a ship, a van' },
  { key: 'personal', label: 'personal', title: 'a laptop of a person' },
  { key: 'public', label: 'public', title: 'outside, as the world sees us' },
] as const
const PATIENCE = 5 * 60_000

const { now } = useClock()
const kind = ref<(typeof KINDS)[number]['key']>('site')
const name = ref('')
const place = ref('')
const tags = ref('')
const machines = ref(1)
const made = ref<Shapes['EnrolmentTokenWithSecret'] | null>(null)
const madeAt = ref(0)
const wrong = ref<string | null>(null)
const isMany = computed(() => machines.value > 1)

const known = useQuery({
  queryKey: ['vantage points'],
  queryFn: () => answered(api.GET('/api/vantage-points')),
  refetchInterval: 1500,
})
const before = ref(new Set<number>())
const arrived = computed(() => (made.value ? (known.data.value ?? []).filter((one) => !before.value.has(one.id)) : []))

async function make(): Promise<void> {
  wrong.value = null
  try {
    before.value = new Set((known.data.value ?? []).map((one) => one.id))
    made.value = await answered(
      api.POST('/api/enrolment-tokens', {
        body: {
          name: name.value,
          kind: kind.value,
          place: place.value,
          tags: tags.value
            .split(',')
            .map((one) => one.trim())
            .filter(Boolean),
          most_uses: machines.value,
          expires_h: isMany.value ? 24 : 1,
        },
      }),
    )
    madeAt.value = Date.now()
  } catch (error) {
    if (!(error instanceof HubProblem)) throw error
    wrong.value = `${error.problem.title ?? error.message} ${error.problem.remedy ?? ''}`
  }
}
const command = computed(() => {
  if (!made.value) return ''
  const called = isMany.value || !name.value ? '' : ` --name '${name.value.replaceAll("'", "'\\''")}'`
  const program = `import urllib.request as u; exec(u.urlopen("${location.origin}/api/agents/join").read())`
  return `KUPPEL_AGENT_TOKEN=${made.value.secret} python3 -c '${program}'${called}`
})
const waited = computed(() => now.value - madeAt.value)
</script>

<template>
  <aside
    class="fixed top-[104px] right-0 bottom-0 z-10 w-[380px] overflow-y-auto border-l border-rule-strong bg-sheet px-[22px] pt-3 pb-6 max-phone:static max-phone:mt-4 max-phone:w-auto"
    aria-label="Put an agent on a machine"
    @keydown.esc="emit('close')"
  >
    <div class="flex items-baseline border-b border-rule pb-2">
      <h2 class="heading flex-1">Put an agent on a machine</h2>
      <button class="go text-2" @click="emit('close')">close</button>
    </div>
    <form v-if="!made" aria-label="Make an enrolment token" @submit.prevent="make">
      <p class="mt-3 mb-1 text-2 text-ink-2">What is it</p>
      <Choice v-model="kind" :options="KINDS" label="kind of vantage point" />
      <div class="mt-3 grid grid-cols-2 gap-3">
        <Field v-slot="{ id }" label="name it">
          <input
            :id="id"
            v-model="name"
            class="inp"
            maxlength="80"
            :disabled="isMany"
            :placeholder="isMany ? 'its host name' : 'Averil, gate 2'"
          />
        </Field>
        <Field v-slot="{ id }" label="place">
          <input :id="id" v-model="place" class="inp" maxlength="120" placeholder="harbour office" />
        </Field>
        <Field v-slot="{ id }" label="tags, with commas between">
          <input :id="id" v-model="tags" class="inp" placeholder="harbour" />
        </Field>
        <Field v-slot="{ id }" label="for how many machines">
          <input :id="id" v-model.number="machines" class="inp" type="number" min="1" max="1000" required />
        </Field>
      </div>
      <p v-if="wrong" class="mt-2 text-2 text-breached-ink" role="alert">{{ wrong }}</p>
      <button class="btn btn-main mt-4">Make its line</button>
      <p class="mt-2 text-2 text-ink-2">The token in it is good for {{ isMany ? '24 hours' : 'one hour' }}.</p>
    </form>
    <template v-else>
      <p class="mt-3 mb-1 text-2 text-ink-2">
        Paste this there{{ isMany ? `, on each of ${machines} machines` : ', once' }}
      </p>
      <SecretOnce :text="command" label="line to paste" />
      <p class="mt-1 text-2 text-ink-2">
        Token for {{ isMany ? `${machines} machines` : 'one machine' }}, good until {{ clock(ms(made.token.expires)) }}
      </p>
      <div class="mt-4 border-t border-rule pt-3" aria-live="polite">
        <p v-if="arrived.length === 0" class="text-2 text-ink-2">
          Waiting for it … {{ duration(waited) }}
          <span
            class="mt-2 block border-b-2 border-dashed border-ink-4"
            :style="{ width: `${Math.min(100, waited / 3000)}%` }"
          />
        </p>
        <section v-for="point in arrived" :key="point.id" class="mb-3">
          <p class="heading">Here it is: {{ point.name }}.</p>
          <dl class="mt-1">
            <div class="flex border-t border-rule leading-[25px]">
              <dt class="w-[88px] text-2 text-ink-3">address</dt>
              <dd>{{ point.addresses.join(', ') || 'not told' }}</dd>
            </div>
            <div class="flex border-t border-rule leading-[25px]">
              <dt class="w-[88px] text-2 text-ink-3">clock</dt>
              <dd v-if="point.clock_offset_ms !== null">
                {{ signed(point.clock_offset_ms, 'ms') }}
                <span class="text-2 text-ink-3">± {{ inWords(point.clock_error_ms, 'ms') }}</span>
              </dd>
              <dd v-else>not compared yet</dd>
            </div>
            <div class="flex border-t border-rule leading-[25px]">
              <dt class="w-[88px] text-2 text-ink-3">version</dt>
              <dd>{{ point.version }}</dd>
            </div>
          </dl>
        </section>
        <div v-if="arrived.length === 0 && waited > PATIENCE" class="mt-3 text-2">
          <b>Nothing came yet. Look there, in this order:</b>
          <ol class="mt-1 list-decimal pl-5 text-ink-2">
            <li>Does the line end with an error? It says what to do.</li>
            <li>
              Does <i>curl {{ command.match(/https?:\S+/)?.[0] }}/api/health</i> answer?
            </li>
            <li>Is the clock of that machine right? A wrong one makes certificates look invalid.</li>
          </ol>
        </div>
        <button class="btn mt-3" @click="made = null">{{ arrived.length ? 'Another machine' : 'New token' }}</button>
      </div>
    </template>
  </aside>
</template>
