import { describe, expect, it } from 'vitest'
import { capital, length, nameTone } from './words'

describe('length', () => {
  it.each([
    [-5, '0.0 ms'], [0.4, '0.4 ms'], [9.96, '10.0 ms'], [10, '10 ms'], [999, '999 ms'], [1000, '1.0 s'], [9900, '9.9 s'], [10_000, '10 s'],
    [119_000, '119 s'], [120_000, '2 min'], [7_200_000, '2 h'], [172_800_000, '2 days'],
  ])('says %d ms as %s', (ms, words) => expect(length(ms)).toBe(words))
})

it('colours the states of a name, and leaves what was never asked alone', () => {
  expect(nameTone('pointed')).toBe('success.main')
  expect(nameTone('stale')).toBe('error.main')
  expect(nameTone('idle')).toBeUndefined()
})

it('begins a sentence with a capital', () => {
  expect(capital('no route')).toBe('No route')
  expect(capital('')).toBe('')
})
