/* A kind's settings, as JSON Schema tells them, made into fields of a form. Words, bounds and defaults are the hub's. */

export interface Schema {
  type?: string
  description?: string | undefined
  default?: unknown
  enum?: string[]
  format?: string
  minimum?: number
  maximum?: number
  exclusiveMinimum?: number
  maxLength?: number
  anyOf?: Schema[]
  items?: Schema
  properties?: Record<string, Schema>
  additionalProperties?: boolean | Schema
  required?: string[]
  $ref?: string
  $defs?: Record<string, Schema>
}

export type Values = Record<string, unknown>

export interface SettingField {
  name: string
  label: string
  title: string
  unit: string
  isNeeded: boolean
  isNullable: boolean
  isSecret: boolean
  isLong: boolean
  kind: 'choice' | 'number' | 'yes' | 'words' | 'pairs' | 'parts' | 'text'
  schema: Schema
}

const UNITS: Record<string, string> = { ms: 'ms', s: 's', us: 'µs', mbit: 'Mbit/s', mb: 'MB' }
const NAMES: Record<string, string> = {
  dscp: 'DSCP',
  url: 'web address',
  sip: 'SIP address',
  starttls: 'STARTTLS',
  budget_mb_a_day: 'budget a day',
}
const OPTIONS: Record<string, string> = {
  ipv4: 'IPv4',
  ipv6: 'IPv6',
  jsonpath: 'JSONPath',
  regex: 'regular expression',
}
const ABBREVIATIONS = new Set(['tcp', 'udp', 'icmp', 'smtp', 'imap'])
const LONG = new Set(['body', 'authority'])

/** A copy of plain data, also of what a query keeps from being changed. */
export function copied<T>(data: T): T {
  return JSON.parse(JSON.stringify(data)) as T
}

/** A value to choose, as the trade writes it. */
export function optionWords(option: string): string {
  return OPTIONS[option] ?? (ABBREVIATIONS.has(option) ? option.toUpperCase() : option)
}

function plain(schema: Schema, defs: Record<string, Schema>): Schema {
  if (schema.$ref) return plain(defs[schema.$ref.split('/').at(-1) ?? ''] ?? {}, defs)
  const real = schema.anyOf?.find((one) => one.type !== 'null')
  return real ? { ...plain(real, defs), description: schema.description, default: schema.default } : schema
}

function kindOf(schema: Schema): SettingField['kind'] {
  if (schema.enum) return 'choice'
  if (schema.type === 'integer' || schema.type === 'number') return 'number'
  if (schema.type === 'boolean') return 'yes'
  if (schema.type === 'array') return schema.items?.$ref || schema.items?.properties ? 'parts' : 'words'
  if (schema.type === 'object') return 'pairs'
  return 'text'
}

export function fieldsOf(schema: Schema, defs: Record<string, Schema>): SettingField[] {
  return Object.entries(schema.properties ?? {}).map(([name, raw]) => {
    const own = plain(raw, defs)
    const words = name.split('_')
    const unit = UNITS[words.at(-1) ?? ''] ?? (name.endsWith('_mb_a_day') ? 'MB' : '')
    const called = NAMES[name] ?? (unit && words.length > 1 ? words.slice(0, -1) : words).join(' ')
    return {
      name,
      label: called,
      title: own.description ?? '',
      unit,
      isNeeded: schema.required?.includes(name) ?? false,
      isNullable: raw.anyOf?.some((one) => one.type === 'null') ?? false,
      isSecret: own.format === 'password',
      isLong: LONG.has(name),
      kind: kindOf(own),
      schema: own,
    }
  })
}

/** Values to begin with: every default, and an empty place for what must be given. */
export function initial(schema: Schema, defs: Record<string, Schema>): Values {
  return Object.fromEntries(
    fieldsOf(schema, defs).map((field): [string, unknown] => {
      if (field.schema.default !== undefined) return [field.name, copied(field.schema.default)]
      if (field.isNullable) return [field.name, null]
      return [
        field.name,
        { number: null, yes: false, words: [], parts: [], pairs: {}, choice: '', text: '' }[field.kind],
      ]
    }),
  )
}

export function partsSchema(field: SettingField, defs: Record<string, Schema>): Schema {
  return plain(field.schema.items ?? {}, defs)
}
