<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref } from 'vue'

import { answered, api, type Shapes } from '@/api/client'
import { useDoing } from '@/app/doing'
import Field from '@/parts/Field.vue'
import Refused from '@/parts/Refused.vue'
import TagsField from '@/parts/TagsField.vue'

const props = defineProps<{ group?: Shapes['GroupShape'] }>()
const emit = defineEmits<{ saved: []; left: [] }>()
type Kind = Shapes['MemberShape']['kind']

const { wrong, isBusy, attempt } = useDoing()
const draft = reactive({
  name: props.group?.name ?? '',
  description: props.group?.description ?? '',
  tags: [...(props.group?.tags ?? [])],
})
const members = ref(new Set((props.group?.members ?? []).map((one) => `${one.kind}/${one.id}`)))
const search = ref('')
const targets = useQuery({ queryKey: ['targets'], queryFn: () => answered(api.GET('/api/targets')) })
const probes = useQuery({ queryKey: ['probes'], queryFn: () => answered(api.GET('/api/probes')) })
const points = useQuery({ queryKey: ['vantage points'], queryFn: () => answered(api.GET('/api/vantage-points')) })
const kinds = computed(() => {
  const wanted = search.value.trim().toLowerCase()
  const fits = (things: readonly { id: number; name: string }[] | undefined) =>
    (things ?? []).filter((one) => one.name.toLowerCase().includes(wanted)).slice(0, 60)
  return [
    { kind: 'target' as Kind, label: 'targets', things: fits(targets.data.value) },
    { kind: 'probe' as Kind, label: 'probes', things: fits(probes.data.value) },
    { kind: 'vantage_point' as Kind, label: 'vantage points', things: fits(points.data.value) },
  ]
})
function toggle(key: string): void {
  const next = new Set(members.value)
  if (!next.delete(key)) next.add(key)
  members.value = next
}
const save = () =>
  attempt(async () => {
    const body = {
      ...draft,
      members: [...members.value].map((key) => {
        const [kind = 'target', id = '0'] = key.split('/')
        return { kind: kind as Kind, id: Number(id) }
      }),
    }
    if (props.group) {
      await answered(api.PUT('/api/groups/{group}', { params: { path: { group: props.group.id } }, body }))
    } else {
      await answered(api.POST('/api/groups', { body }))
    }
    emit('saved')
  })
</script>

<template>
  <form class="max-w-[860px] pb-3" :aria-label="group ? `Change ${group.name}` : 'Make a group'" @submit.prevent="save">
    <Refused :wrong="wrong && wrong.field !== 'name' ? wrong : null" />
    <div class="grid grid-cols-3 gap-x-4 gap-y-2.5 max-phone:grid-cols-1">
      <Field v-slot="{ id, isInvalid }" label="name" :error="wrong?.field === 'name' ? wrong.told : null">
        <input :id="id" v-model="draft.name" class="inp" required maxlength="80" :aria-invalid="isInvalid" />
      </Field>
      <Field v-slot="{ id }" label="what it is" class="col-span-2 max-phone:col-span-1">
        <input :id="id" v-model="draft.description" class="inp" maxlength="500" />
      </Field>
      <TagsField v-model="draft.tags" label="everything tagged" class="col-span-3 max-phone:col-span-1" />
    </div>
    <div class="mt-3 flex items-baseline gap-3">
      <span class="text-2 text-ink-2">and by hand, {{ members.size }} chosen</span>
      <input v-model="search" class="inp h-7 w-44" placeholder="narrow" aria-label="Narrow what can be chosen" />
    </div>
    <div class="mt-1 grid grid-cols-3 gap-x-4 max-phone:grid-cols-1">
      <fieldset v-for="one in kinds" :key="one.kind" class="max-h-44 overflow-y-auto border-t border-rule pt-1">
        <legend class="pr-2 text-2 text-ink-3">{{ one.label }}</legend>
        <label v-for="thing in one.things" :key="thing.id" class="flex min-h-6 items-center gap-2">
          <input
            type="checkbox"
            :checked="members.has(`${one.kind}/${thing.id}`)"
            @change="toggle(`${one.kind}/${thing.id}`)"
          />
          <span class="truncate">{{ thing.name }}</span>
        </label>
        <p v-if="one.things.length === 0" class="text-2 text-ink-3">none fits</p>
      </fieldset>
    </div>
    <div class="mt-3 flex gap-2.5">
      <button class="btn btn-main" :disabled="isBusy">{{ group ? 'Save' : 'Make it' }}</button>
      <button type="button" class="btn" @click="emit('left')">Leave it</button>
    </div>
  </form>
</template>
