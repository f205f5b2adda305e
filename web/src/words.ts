import type { Verdict } from './documents'

// length says a time in the unit a person would say, as the server does: one table tests both.
export function length(ms: number): string {
  if (ms < 10) return `${Math.max(0, ms).toFixed(1)} ms`
  if (ms < 1000) return `${Math.round(ms)} ms`
  const s = ms / 1000
  if (s < 10) return `${s.toFixed(1)} s`
  if (s < 120) return `${Math.round(s)} s`
  if (s < 7200) return `${Math.round(s / 60)} min`
  if (s < 172800) return `${Math.round(s / 3600)} h`
  return `${Math.round(s / 86400)} days`
}

export function exact(at: string | number | Date): string {
  return new Date(at).toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'medium' })
}

// toneOf is the colour of a verdict. Words say the same without it.
export const toneOf: Record<Verdict, string> = {
  proven: 'success.main',
  unsettled: 'warning.main',
  broken: 'error.main',
  unproven: 'text.secondary',
}

export function capital(s: string): string {
  return s.charAt(0).toUpperCase() + s.slice(1)
}
