import { beforeEach, expect, test, vi } from 'vitest'
import { Problem } from '../api'
import { away, flush, kept, type Kept } from './answers'

const store = new Map<string, string>()
vi.stubGlobal('localStorage', { getItem: (k: string) => store.get(k) ?? null, setItem: (k: string, v: string) => store.set(k, v) })

const answer = (step: string, at: string): Kept => ({ site: 'KET-07', step, subject: '', state: 'done', words: '', at })

beforeEach(() => {
  store.clear()
  store.set('inkpost.answers', JSON.stringify([answer('doors', '1'), answer('restart', '2')]))
})

test('answers wait, in order, while nobody answers', async () => {
  const sent: string[] = []
  const refused = await flush((a) => {
    sent.push(a.step)
    return sent.length > 1 ? Promise.reject(new Problem(0, 'no answer')) : Promise.resolve()
  })
  expect(refused).toBeNull()
  expect(sent).toEqual(['doors', 'restart'])
  expect(kept().map((k) => k.step)).toEqual(['restart'])
})

test('what the server refuses is told, and not sent again', async () => {
  const refused = await flush(() => Promise.reject(new Problem(422, 'say why')))
  expect(refused?.message).toBe('say why')
  expect(kept().map((k) => k.step)).toEqual(['restart'])
})

test('what cannot be read is nothing', () => {
  store.set('inkpost.answers', '{')
  expect(kept()).toEqual([])
  expect(away(new Problem(503, 'database away'))).toBe(true)
  expect(away(new Problem(404, 'gone'))).toBe(false)
})
