/** Phases of a fetch: the words on screen and the colour of each, in their order. */
export const PHASES: Record<string, { label: string; colour: string }> = {
  name_lookup: { label: 'name', colour: 'var(--phase-1)' },
  connect: { label: 'connect', colour: 'var(--phase-2)' },
  tls: { label: 'secure', colour: 'var(--phase-3)' },
  first_byte: { label: 'wait', colour: 'var(--phase-4)' },
  transfer: { label: 'receive', colour: 'var(--phase-5)' },
  processing: { label: 'build up', colour: 'var(--phase-2)' },
}

export function phaseLabel(name: string): string {
  return PHASES[name]?.label ?? name.replace('_', ' ')
}

export function phaseColour(name: string): string {
  const step = /^step_(\d+)$/.exec(name)
  return PHASES[name]?.colour ?? (step ? `var(--phase-${((Number(step[1]) - 1) % 5) + 1})` : 'var(--ink-4)')
}
