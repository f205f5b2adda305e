import { say } from '../catalogue'

// One field to fill in. With choices it is a list to pick from; a list is typed with commas; a name is checked as it is typed.
// What is seldom filled in is out of sight until it is asked for.
export interface Blank {
  name: string
  label: string
  help?: string
  seldom?: boolean
  choices?: string[]
  none?: string
  kind?: 'text' | 'number' | 'yes' | 'list' | 'time' | 'name' | 'secret' | 'pairs'
}

export type Value = string | number | boolean | string[] | Record<string, string>

const never = '0001-01-01T00:00:00Z'

// sent is a field's value as the server takes it.
export function sent(b: Blank, v: Value): Value {
  if (b.kind === 'list' && typeof v === 'string') return v.split(/[\s,]+/).filter(Boolean)
  if (b.kind === 'pairs') {
    const none = Object.fromEntries((b.choices ?? []).map((name) => [name, ''])) // what is left out is taken back
    const given = String(v)
      .split(',')
      .map((one) => one.trim())
      .filter(Boolean)
      .map((one) => [one.split('=')[0].trim(), one.split('=').slice(1).join('=').trim()])
    return { ...none, ...Object.fromEntries(given) }
  }
  if (b.kind === 'time') return v ? new Date(String(v)).toISOString() : never
  return v
}

// typed is a value as it stands in its field.
export function typed(b: Blank, v: Value | undefined): string {
  if (Array.isArray(v)) return v.join(', ')
  if (v && typeof v === 'object')
    return Object.entries(v)
      .map(([name, value]) => `${name}=${value}`)
      .join(', ')
  if (b.kind === 'time' && v) {
    const at = new Date(String(v))
    return at.getFullYear() < 2000 ? '' : new Date(at.getTime() - at.getTimezoneOffset() * 60000).toISOString().slice(0, 16)
  }
  return String(v ?? '')
}

// shownAs is a value for people.
export const shownAs = (b: Blank | undefined, v: unknown) => (b ? typed(b, v as Value) : String(v ?? '')) || say.form.nothing
