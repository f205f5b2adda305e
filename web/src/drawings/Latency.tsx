import { Box, Stack, Typography, useTheme } from '@mui/material'
import { useQuery } from '@tanstack/react-query'
import { api, type Availability } from '../api'
import { say } from '../catalogue'
import { length } from '../words'
import { width } from './bars'
import { curve, roof } from './days'

const words = say.latency
const day = 86_400_000
const height = 100

// Latency draws how long a service took to answer, a step a day: the median in ink, what 19 of 20 probes stayed below fainter.
export function Latency({ site, service, count }: { site: string; service: string; count: number }) {
  const theme = useTheme()
  const list = useQuery({ queryKey: ['days', site, service, count], queryFn: () => api.days(site, service, count) })
  const days = list.data ?? []
  const first = Date.parse(new Date().toISOString().slice(0, 10)) - (count - 1) * day
  const top = roof(days.flatMap((d) => [d.p95_us, d.median_us]))
  const line = (of: (d: Availability) => number) => curve(days, of, first, count, top, height)
  if (list.data && !days.some((d) => d.median_us)) return <Typography sx={{ color: 'text.secondary' }}>{words.none}</Typography>
  return (
    <Box data-latency={service}>
      <Stack direction="row" sx={{ justifyContent: 'space-between' }}>
        <Typography variant="label">{length(top / 1000)}</Typography>
        <Typography variant="label">{words.lines}</Typography>
      </Stack>
      <Box
        component="svg"
        role="img"
        aria-label={words.title(service)}
        viewBox={`0 0 ${width} ${height}`}
        preserveAspectRatio="none"
        sx={{ display: 'block', width: '100%', height, bgcolor: 'background.default', overflow: 'visible' }}
      >
        <path
          d={line((d) => d.p95_us)}
          fill="none"
          stroke={theme.palette.text.secondary}
          strokeDasharray="3 2"
          vectorEffect="non-scaling-stroke"
        />
        <path
          d={line((d) => d.median_us)}
          fill="none"
          stroke={theme.palette.text.primary}
          strokeWidth={2}
          vectorEffect="non-scaling-stroke"
        />
        {days.map((d) => (
          <rect
            key={d.window}
            x={((Date.parse(d.window) - first) / day) * (width / count)}
            width={width / count}
            height={height}
            fill="transparent"
          >
            <title>{words.day(d.window, length(d.median_us / 1000), length(d.p95_us / 1000), length(d.p99_us / 1000))}</title>
          </rect>
        ))}
      </Box>
    </Box>
  )
}
