import { expect, it } from 'vitest'
import type { Span } from './api'
import { say } from './catalogue'

it('counts in words that agree', () => {
  expect(say.form.more(1)).toBe('Show 1 more field')
  expect(say.form.more(6)).toBe('Show 6 more fields')
})

it('says what a stretch of the ribbon is', () => {
  const span: Span = {
    vantage: 'harbour',
    outcome: 'opened',
    verdict: 'proven',
    from: '2026-03-14T12:00:00Z',
    until: '2026-03-14T12:30:00Z',
    count: 31,
    fastest_us: 9400,
    slowest_us: 21000,
  }
  expect(say.ribbon.span(span)).toMatch(/^harbour: opened for 30 min, 31 probes, 9\.4 ms to 21 ms\n/)
  expect(say.ribbon.span({ ...span, count: 1, fastest_us: 0 })).toMatch(/, 1 probe\n/)
})

it('writes no two spaces and no space before a full stop', () => {
  const written: string[] = []
  const walk = (words: unknown) => {
    if (typeof words === 'string') written.push(words)
    else if (words && typeof words === 'object') Object.values(words).forEach(walk)
  }
  walk(say)
  expect(written.length).toBeGreaterThan(100)
  expect(written.filter((w) => / {2}| \.( |$)/.test(w))).toEqual([])
})
