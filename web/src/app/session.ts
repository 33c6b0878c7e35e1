import { computed, readonly, ref } from 'vue'

import { api, answered, onUnrecognised, type Shapes } from '@/api/client'

export type Scope = Shapes['Scope']
type Session = Shapes['SessionShape']

const session = ref<Session | null>(null)

/** Who is signed in; asked of the hub once, and again when it no longer knows us. */
export const person = computed(() => session.value?.person ?? null)
export const about = readonly(session)

/** Whether the person may do such things: what may not be done is not offered. */
export function may(scope: Scope): boolean {
  return person.value?.scopes.includes(scope) ?? false
}

export async function loadSession(): Promise<void> {
  session.value = await answered(api.GET('/api/session'))
}

export async function signIn(name: string, password: string): Promise<void> {
  session.value = await answered(api.POST('/api/session', { body: { name, password } }))
}

export async function changePassword(current: string, wanted: string): Promise<void> {
  session.value = await answered(api.PUT('/api/session/password', { body: { current, new: wanted } }))
}

export async function signOut(everywhere: boolean): Promise<void> {
  await (everywhere ? api.DELETE('/api/session/all') : api.DELETE('/api/session'))
  await loadSession()
}

onUnrecognised(() => {
  if (session.value?.person) session.value = { ...session.value, person: null }
})
