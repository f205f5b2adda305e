import { Button, Stack } from '@mui/material'
import { useEffect, useState } from 'react'
import { say } from '../catalogue'
import type { Window } from '../drawings/bars'

const minute = 60_000
export const day = 1440 * minute
const ranges: [string, number][] = [
  [say.stretch.minutes, 10 * minute],
  [say.stretch.day, day],
  [say.stretch.week, 7 * day],
  [say.stretch.quarter, 90 * day],
  [say.stretch.year, 365 * day],
]

// useWindow is the stretch of time that the ribbons show: the newest so-and-so long, or what was zoomed to.
export function useWindow() {
  const [range, setRange] = useState(day)
  const [zoomed, setZoomed] = useState<Window | null>(null)
  const [now, setNow] = useState(() => Date.now())
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), 2000)
    return () => clearInterval(timer)
  }, [])
  return {
    view: zoomed ?? { from: now - range, until: now },
    now,
    range,
    zoomed,
    setRange: (r: number) => {
      setZoomed(null)
      setRange(r)
    },
    zoom: setZoomed,
  }
}

// Ranges chooses how long a stretch the ribbons show.
export function Ranges({ of }: { of: ReturnType<typeof useWindow> }) {
  return (
    <Stack direction="row" sx={{ gap: 0.5, flexWrap: 'wrap' }}>
      {ranges.map(([word, ms]) => {
        const on = !of.zoomed && of.range === ms
        return (
          <Button
            key={word}
            size="small"
            aria-pressed={on}
            variant={on ? 'contained' : 'text'}
            color={on ? 'primary' : 'inherit'}
            onClick={() => of.setRange(ms)}
          >
            {word}
          </Button>
        )
      })}
    </Stack>
  )
}
