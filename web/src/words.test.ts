import { expect, it } from 'vitest'
import lengths from '../../internal/core/pace/testdata/lengths.json'
import { capital, length } from './words'

it.each(lengths)('says $ms ms as $words', ({ ms, words }) => expect(length(ms)).toBe(words))

it('begins a sentence with a capital', () => {
  expect(capital('no route')).toBe('No route')
  expect(capital('')).toBe('')
})
