import { describe, expect, it } from 'vitest'
import { touched } from './live'

describe('an event of one site', () => {
  const of = (...key: string[]) => touched(new Set(['KET-07']), false, key)

  it.each(['site', 'moves', 'cards', 'history'])('has %s of that site read anew', (kind) => expect(of(kind, 'KET-07', 'nvr')).toBe(true))
  it('leaves what is kept of another site', () => expect(of('site', 'DUN-12')).toBe(false))
  it.each(['overview', 'hostnames', 'movesBy'])('has the list %s read anew', (kind) => expect(of(kind)).toBe(true))
  it.each(['kinds', 'vantages'])("leaves %s, which is no site's", (kind) => expect(of(kind)).toBe(false))
})

describe('an event of no site', () => {
  it('has everything read anew', () => expect(touched(new Set(), true, ['vantages'])).toBe(true))
  it('leaves who is signed in', () => expect(touched(new Set(), true, ['session'])).toBe(false))
})
