import createClient from 'openapi-fetch'

import type { components, paths } from './generated'

export type Shapes = components['schemas']
export type Problem = Shapes['Problem']
export type State = Shapes['State']

export const api = createClient<paths>()

/** What the hub refused or could not do, in its own words. */
export class HubProblem extends Error {
  constructor(readonly problem: Partial<Problem>) {
    super(problem.title ?? 'The hub does not answer.')
  }
}

let tell: () => void = () => {}

/** What to do when the hub does not, or no longer, know who is calling. */
export function onUnrecognised(act: () => void): void {
  tell = act
}

api.use({
  onResponse({ request, response }) {
    // A wrong password is an answer of its own; any other 401 means that the session is over.
    if (response.status === 401 && !new URL(request.url).pathname.startsWith('/api/session')) tell()
  },
})

interface Answer<T> {
  data?: T
  error?: unknown
  response: Response
}

/** The answer's data, or the hub's problem thrown; nothing where the answer has no content. */
export async function answered<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>
  try {
    answer = await call
  } catch {
    throw new HubProblem({
      title: 'The hub does not answer.',
      remedy: 'Look whether it runs; this page tries again by itself.',
    })
  }
  if (!answer.response.ok) throw new HubProblem((answer.error ?? {}) as Partial<Problem>)
  return answer.data as T
}
