import { expect, it } from 'vitest'
import type { History, Span } from '../api'
import { bars, width, zoomed } from './bars'

const noon = Date.parse('2026-03-14T12:00:00Z')
const at = (minutes: number) => new Date(noon + minutes * 60000).toISOString()
const span = (vantage: string, from: number, until: number): Span => ({
  vantage,
  outcome: 'opened',
  verdict: 'proven',
  from: at(from),
  until: at(until),
  count: 1,
  fastest_us: 0,
  slowest_us: 0,
})
const history = (...spans: Span[]): History => ({ service: 'nvr', from: at(0), until: at(60), gap_ms: 180000, spans })
const hour = { from: noon, until: noon + 3600000 }

it('draws a span to scale', () => {
  const [b] = bars(history(span('server', 15, 45)), 'server', hour)
  expect(b.x).toBeCloseTo(width / 4)
  expect(b.w).toBeCloseTo(width / 2)
})

it('draws what one vantage point saw, and nobody else', () => {
  expect(bars(history(span('server', 0, 10), span('harbour', 10, 20)), 'harbour', hour)).toHaveLength(1)
})

it('closes a pause between two probes, and leaves a gap where nobody looked', () => {
  const [first] = bars(history(span('server', 0, 10), span('server', 12, 20)), 'server', hour)
  expect(first.w).toBeCloseTo((12 / 60) * width)
  const [alone] = bars(history(span('server', 0, 10), span('server', 30, 40)), 'server', hour)
  expect(alone.w).toBeCloseTo((10 / 60) * width)
})

it('cuts a span at the ends of the window', () => {
  const [b] = bars(history(span('server', -30, 90)), 'server', hour)
  expect([b.x, b.w]).toEqual([0, width])
})

it('keeps a moment visible', () => {
  expect(bars(history(span('server', 5, 5)), 'server', hour)[0].w).toBe(1.5)
})

it('zooms to what was dragged over, in either direction', () => {
  const half = { from: noon + 900000, until: noon + 2700000 }
  expect(zoomed(hour, 0.25, 0.75)).toEqual(half)
  expect(zoomed(hour, 0.75, 0.25)).toEqual(half)
})

it('zooms to no less than a minute', () => {
  expect(zoomed(hour, 0.5, 0.501)).toEqual({ from: noon + 1800000, until: noon + 1860000 })
})
