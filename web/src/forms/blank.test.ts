import { describe, expect, it } from 'vitest'
import { sent, shownAs, typed, type Blank, type Value } from './blank'

const blank = (kind?: Blank['kind'], choices?: string[]): Blank => ({ name: 'field', label: 'Field', kind, choices })

describe('what is sent', () => {
  it('is a list, however it was separated', () => expect(sent(blank('list'), ' www, mail  *,')).toEqual(['www', 'mail', '*']))
  it('is a list as it came', () => expect(sent(blank('list'), ['stun'])).toEqual(['stun']))
  it('is a time in UTC', () => expect(sent(blank('time'), '2026-03-14T12:00:00Z')).toBe('2026-03-14T12:00:00.000Z'))
  it('takes a time back that was emptied', () => expect(sent(blank('time'), '')).toBe('0001-01-01T00:00:00Z'))
  it('is text as it was typed', () => expect(sent(blank(), ' a, b')).toBe(' a, b'))

  it('is pairs, with a value that has an equals sign', () =>
    expect(sent(blank('pairs'), 'path=/live?x=1, status=200')).toEqual({ path: '/live?x=1', status: '200' }))
  it('takes an option back that was left out', () =>
    expect(sent(blank('pairs', ['path', 'text']), 'path=/')).toEqual({ path: '/', text: '' }))
})

describe('what stands in a field', () => {
  it.each<[string, Value | undefined]>([
    ['', undefined],
    ['a, b', ['a', 'b']],
    ['path=/, status=200', { path: '/', status: '200' }],
    ['true', true],
    ['300', 300],
  ])('is %j', (words, value) => expect(typed(blank(), value)).toBe(words))

  it('is empty for a time that is not set', () => expect(typed(blank('time'), '0001-01-01T00:00:00Z')).toBe(''))

  it('is sent back as the same time', () => {
    const b = blank('time')
    expect(sent(b, typed(b, '2026-07-14T12:30:00Z'))).toBe('2026-07-14T12:30:00.000Z')
  })
})

it('says that nothing was there', () => {
  expect(shownAs(blank(), '')).toBe('nothing')
  expect(shownAs(undefined, 7)).toBe('7')
})
