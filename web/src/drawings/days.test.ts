import { expect, it } from 'vitest'
import type { Availability } from '../api'
import { curve, roof } from './days'

const on = (window: string, median_us: number) => ({ window, median_us }) as Availability

it('draws a step a day, and breaks where nothing is known', () => {
  const days = [on('2026-11-01', 50), on('2026-11-02', 100), on('2026-11-04', 25)]
  expect(curve(days, (d) => d.median_us, Date.parse('2026-11-01'), 10, 100, 40)).toBe('M0.0 20.0H100.0L100.0 0.0H200.0M300.0 30.0H400.0')
  expect(curve(days, (d) => d.median_us, Date.parse('2026-11-04'), 1, 100, 40)).toBe('M0.0 30.0H1000.0')
})

it('has a roof that reads well', () => {
  expect([0, 7, 11, 23_000, 50_000, 51_000].map((n) => roof([n]))).toEqual([1, 10, 20, 50_000, 50_000, 100_000])
})
