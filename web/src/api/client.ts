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

/** The answer's data, or the hub's problem thrown. */
export async function answered<T>(call: Promise<{ data?: T; error?: unknown }>): Promise<T> {
  let answer: { data?: T; error?: unknown }
  try {
    answer = await call
  } catch {
    throw new HubProblem({
      title: 'The hub does not answer.',
      remedy: 'Look whether it runs; this page tries again by itself.',
    })
  }
  if (answer.data === undefined) throw new HubProblem((answer.error ?? {}) as Partial<Problem>)
  return answer.data
}
