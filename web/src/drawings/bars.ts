import type { History, Outcome, Verdict } from '../api'
import { say } from '../catalogue'

// Window is a stretch of time, in milliseconds since 1970.
export interface Window {
  from: number
  until: number
}

export const width = 1000 // of the drawing's own coordinates; it is stretched to the space there is

interface Bar {
  x: number
  w: number
  outcome: Outcome
  verdict: Verdict
  words: string
}

// bars are what one vantage point saw, to scale in a window. Between two spans of a service that was watched without a pause
// there is no gap, and what was seen for a moment only still has a visible width.
export function bars(h: History, vantage: string, view: Window): Bar[] {
  const scale = width / (view.until - view.from)
  const own = h.spans.filter((s) => s.vantage === vantage)
  return own.map((s, i) => {
    const from = Math.max(Date.parse(s.from), view.from)
    const next = own[i + 1] ? Date.parse(own[i + 1].from) : Infinity
    const end = next - Date.parse(s.until) <= h.gap_ms ? next : Date.parse(s.until)
    const until = Math.min(end, view.until)
    return {
      x: (from - view.from) * scale,
      w: Math.max((until - from) * scale, 1.5),
      outcome: s.outcome,
      verdict: s.verdict,
      words: say.ribbon.span(s),
    }
  })
}

// zoomed is the part of a window between two places on it, each from 0 to 1, in either order; at least a minute.
export function zoomed(view: Window, a: number, b: number): Window {
  const span = view.until - view.from
  const from = view.from + Math.min(a, b) * span
  return { from, until: Math.max(from + 60000, view.from + Math.max(a, b) * span) }
}
