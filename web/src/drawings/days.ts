import type { Availability } from '../api'
import { width } from './bars'

const day = 86_400_000

// Curve is one line of a latency chart: a step a day, broken where nothing is known.
export function curve(
  days: Availability[],
  of: (d: Availability) => number,
  first: number,
  count: number,
  top: number,
  height: number,
): string {
  const step = width / count
  let out = ''
  let last = -2
  for (const d of days) {
    const n = Math.round((Date.parse(d.window) - first) / day)
    if (n < 0 || n >= count || !of(d)) continue
    const y = (height - (of(d) / top) * height).toFixed(1)
    out += `${n === last + 1 ? 'L' : 'M'}${(n * step).toFixed(1)} ${y}H${((n + 1) * step).toFixed(1)}`
    last = n
  }
  return out
}

// roof is a round number above all of some figures: 1, 2 or 5 times a power of ten.
export function roof(figures: number[]): number {
  const most = Math.max(...figures, 1)
  const power = 10 ** Math.floor(Math.log10(most))
  return [1, 2, 5, 10].map((n) => n * power).find((n) => n >= most)!
}
