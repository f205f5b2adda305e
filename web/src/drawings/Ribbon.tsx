import { Box, Typography, useTheme, type Theme } from '@mui/material'
import { useQuery } from '@tanstack/react-query'
import { useId, useRef, useState, type PointerEvent } from 'react'
import { api, type Outcome, type Verdict } from '../api'
import { say } from '../catalogue'
import { exact, length } from '../words'
import { bars, width, zoomed, type Window } from './bars'

const words = say.ribbon

// What each outcome looks like. The texture says the same as the colour, so that it survives a black-and-white print.
const textures: Record<Outcome, 'ink' | 'hatch' | 'dots' | 'cross' | 'blank'> = {
  answered: 'ink',
  opened: 'ink',
  refused: 'hatch',
  silent: 'dots',
  unroutable: 'blank',
  garbled: 'cross',
  stranger: 'cross',
  skipped: 'blank',
}

// What is wanted is drawn in ink, what is not in the colour of what is wrong.
const inks = (theme: Theme): Record<Verdict, string> => ({
  proven: theme.palette.text.primary,
  unsettled: theme.palette.warning.main,
  broken: theme.palette.error.main,
  unproven: theme.palette.text.secondary,
})

// Ribbon draws a service's history as a strip of ink, to scale in time, one row a vantage point; gaps stay gaps. Dragging
// over it zooms in. What says nothing of the service is drawn faintly.
export function Ribbon({
  site,
  service,
  view,
  zoom,
  thin = false,
}: {
  site: string
  service: string
  view: Window
  zoom: (w: Window) => void
  thin?: boolean // half as high, and without words
}) {
  const theme = useTheme()
  const id = useId()
  const frame = useRef<SVGSVGElement>(null)
  const [drag, setDrag] = useState<{ a: number; b: number } | null>(null)
  // The window slides with time; asking anew for each second of it would be many times the same.
  const step = Math.max(1000, (view.until - view.from) / width)
  const history = useQuery({
    queryKey: ['history', site, service, Math.round(view.from / step), Math.round(view.until / step)],
    queryFn: () => api.history(site, service, new Date(view.from), new Date(view.until)),
    placeholderData: (before) => before,
  })
  const oldest = [...(history.data?.spans ?? [])].sort((a, b) => a.from.localeCompare(b.from))
  const vantages = oldest.length ? [...new Set(oldest.map((s) => s.vantage))] : ['server']
  const row = theme.draw.ribbon / (thin ? 2 : 1)
  const at = (e: PointerEvent) => {
    const box = frame.current!.getBoundingClientRect()
    return Math.min(1, Math.max(0, (e.clientX - box.left) / box.width))
  }
  const release = () => {
    if (drag && Math.abs(drag.b - drag.a) > 0.01) zoom(zoomed(view, drag.a, drag.b))
    setDrag(null)
  }
  return (
    <Box>
      <Box
        component="svg"
        ref={frame}
        role="img"
        aria-label={words.title(service)}
        data-ribbon={service}
        viewBox={`0 0 ${width} ${row * vantages.length}`}
        preserveAspectRatio="none"
        sx={{
          display: 'block',
          width: '100%',
          height: row * vantages.length,
          bgcolor: 'background.default',
          cursor: 'crosshair',
          touchAction: 'pan-y',
        }}
        onPointerDown={(e) => {
          e.currentTarget.setPointerCapture(e.pointerId)
          setDrag({ a: at(e), b: at(e) })
        }}
        onPointerMove={(e) => drag && setDrag({ a: drag.a, b: at(e) })}
        onPointerUp={release}
      >
        <defs>
          {Object.entries(inks(theme)).map(([side, ink]) => {
            return [
              <pattern key={side + 'ink'} id={`${id}-ink-${side}`} width="4" height="4" patternUnits="userSpaceOnUse">
                <rect width="4" height="4" fill={ink} />
              </pattern>,
              <pattern key={side + 'hatch'} id={`${id}-hatch-${side}`} width="6" height="6" patternUnits="userSpaceOnUse">
                <path d="M-1 7 7 -1M-1 1 1 -1M5 7 7 5" stroke={ink} strokeWidth="2" />
              </pattern>,
              <pattern key={side + 'dots'} id={`${id}-dots-${side}`} width="5" height="5" patternUnits="userSpaceOnUse">
                <circle cx="2.5" cy="2.5" r="1.4" fill={ink} />
              </pattern>,
              <pattern key={side + 'cross'} id={`${id}-cross-${side}`} width="7" height="7" patternUnits="userSpaceOnUse">
                <path d="M0 0 7 7M7 0 0 7" stroke={ink} strokeWidth="1.5" />
              </pattern>,
              <pattern key={side + 'blank'} id={`${id}-blank-${side}`} width="8" height={row} patternUnits="userSpaceOnUse">
                <path d={`M0 1 5 1M0 ${row - 1} 5 ${row - 1}`} stroke={ink} strokeWidth="2" />
              </pattern>,
            ]
          })}
        </defs>
        {history.data &&
          vantages.map((v, n) =>
            bars(history.data, v, view).map((b) => (
              <rect
                key={`${v} ${b.x}`}
                x={b.x}
                y={n * row + 1}
                width={b.w}
                height={row - 2}
                fill={`url(#${id}-${textures[b.outcome]}-${b.verdict})`}
                data-outcome={b.outcome}
              >
                <title>{b.words}</title>
              </rect>
            )),
          )}
        {drag && (
          <rect
            x={Math.min(drag.a, drag.b) * width}
            y={0}
            width={Math.abs(drag.b - drag.a) * width}
            height={row * vantages.length}
            fill={theme.palette.primary.main}
            opacity={0.3}
          />
        )}
      </Box>
      {vantages.length > 1 && !thin && (
        <Typography variant="label" component="div">
          {words.rows(vantages.join(', '))}
        </Typography>
      )}
    </Box>
  )
}

// Scale writes the ends of the window, and what the textures mean.
export function Scale({ view }: { view: Window }) {
  return (
    <Box sx={{ display: 'flex', justifyContent: 'space-between' }}>
      <Typography variant="label">{exact(view.from)}</Typography>
      <Typography variant="label">{length(view.until - view.from)}</Typography>
      <Typography variant="label">{exact(view.until)}</Typography>
    </Box>
  )
}

export function Legend() {
  const theme = useTheme()
  const row = 12
  const bit = (name: string, drawing: React.ReactNode) => (
    <Box key={name} sx={{ display: 'flex', alignItems: 'center', gap: 0.5 }}>
      <svg width={30} height={row} aria-hidden>
        {drawing}
      </svg>
      <Typography variant="label">{name}</Typography>
    </Box>
  )
  const wrong = theme.palette.error.main
  return (
    <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 2 }}>
      {bit(words.open, <rect width={30} height={row} fill={theme.palette.text.primary} />)}
      {bit(words.refused, <path d="M0 12 12 0M8 12 20 0M16 12 28 0" stroke={wrong} strokeWidth={2} />)}
      {bit(
        words.silent,
        <g fill={wrong}>
          {[3, 9, 15, 21, 27].map((x) => (
            <circle key={x} cx={x} cy={6} r={1.6} />
          ))}
        </g>,
      )}
      {bit(words.strange, <path d="M0 0 12 12M12 0 0 12M14 0 26 12M26 0 14 12" stroke={wrong} strokeWidth={1.5} />)}
      {bit(words.unroutable, <path d="M0 1H5M9 1H14M18 1H23M0 11H5M9 11H14M18 11H23" stroke={wrong} strokeWidth={2} />)}
      {bit(words.gap, <rect width={30} height={row} fill={theme.palette.background.default} />)}
    </Box>
  )
}
