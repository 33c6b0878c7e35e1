import type { Shapes } from '@/api/client'

import { copied, initial, type Schema, type Values } from './schema'

export type Kind = Shapes['KindShape']
export type Probe = Shapes['ProbeShape']
export type Schedule = Omit<Required<Shapes['ScheduleShape']>, 'quiet'> & { quiet: [string, string][] }

/** A probe while it is being written. */
export interface Draft {
  name: string
  kind: string
  target: number | null
  settings: Values
  interval_s: number
  schedule: Schedule
  attempts: number
  limits: Shapes['LimitShape'][]
  judgement: { n: number; m: number }
  vantage_points: number[]
  tags: string[]
  interface: string
  source: string
}

export const PLAIN: Schedule = {
  way: 'every',
  cron: '',
  at: '03:00',
  spread_s: 0,
  zone: 'UTC',
  quiet: [],
  burst_interval_s: 0,
  burst_for_s: 0,
}

export function schemaOf(kind: Kind): { schema: Schema; defs: Record<string, Schema> } {
  const schema = kind.settings as Schema
  return { schema, defs: schema.$defs ?? {} }
}

export function fresh(kind: Kind): Draft {
  const { schema, defs } = schemaOf(kind)
  const isDaily = kind.interval_s >= 86_400
  return {
    name: '',
    kind: kind.name,
    target: null,
    settings: initial(schema, defs),
    interval_s: isDaily ? 3600 : kind.interval_s,
    schedule: isDaily ? { ...PLAIN, way: 'daily', spread_s: 3600 } : { ...PLAIN },
    attempts: kind.name === 'throughput' || kind.name === 'host' ? 1 : 2,
    limits: [],
    judgement: { n: 2, m: 3 },
    vantage_points: [],
    tags: [],
    interface: '',
    source: '',
  }
}

export function opened(probe: Probe): Draft {
  return {
    name: probe.name,
    kind: probe.kind,
    target: probe.target,
    settings: copied(probe.settings),
    interval_s: probe.interval_s,
    schedule: { ...PLAIN, ...(probe.schedule as Partial<Schedule>) },
    attempts: probe.attempts ?? 2,
    limits: copied(probe.limits ?? []),
    judgement: { n: probe.judgement?.n ?? 2, m: probe.judgement?.m ?? 3 },
    vantage_points: [...(probe.vantage_points ?? [])],
    tags: [...(probe.tags ?? [])],
    interface: probe.binding?.interface ?? '',
    source: probe.binding?.source ?? '',
  }
}

/** What of the settings says where it goes, for the sentence at the top. */
export function aimOf(draft: Draft): string {
  const { url, host, resolver, name, steps } = draft.settings as Record<string, unknown>
  if (Array.isArray(steps)) return steps.length ? `${steps.length} ${steps.length === 1 ? 'step' : 'steps'}` : ''
  if (typeof resolver === 'string' && typeof name === 'string' && name) return `${name} at ${resolver}`
  for (const text of [url, host]) if (typeof text === 'string' && text) return text.replace(/^https?:\/\//, '')
  return ''
}

export const VERBS: Record<string, string> = {
  icmp: 'reach',
  tcp: 'connect to',
  udp: 'exchange packets with',
  dns: 'ask for',
  http: 'fetch',
  tls: 'look at the certificate of',
  path: 'find the path to',
  voice: 'talk with',
  throughput: 'move data to and from',
  transaction: 'go through',
  page: 'load the page',
  host: 'look at the machine itself',
}

export function bodyOf(draft: Draft, isEnabled: boolean): Shapes['NewProbe'] {
  return {
    name: draft.name.trim(),
    kind: draft.kind,
    target: draft.target ?? 0,
    settings: draft.settings,
    interval_s: draft.interval_s,
    schedule: draft.schedule,
    attempts: draft.attempts,
    attempt_gap_ms: 500,
    binding: { interface: draft.interface || null, source: draft.source || null },
    limits: draft.limits,
    judgement: draft.judgement,
    is_enabled: isEnabled,
    vantage_points: draft.vantage_points,
    tags: draft.tags,
  }
}
