import { Box, Typography, useTheme } from '@mui/material'
import type { Move } from '../api'
import { say } from '../catalogue'
import { exact } from '../words'

// AddressStair draws a link's addresses over time as a step line: a new tread for each address, in the order in which they
// came, with the newest at the top.
export function AddressStair({ moves, now }: { moves: Move[]; now: number }) {
  const theme = useTheme()
  const steps = [...moves].reverse()
  if (steps.length === 0) return <Typography sx={{ color: 'text.secondary' }}>{say.stair.none}</Typography>
  const width = 1000
  const height = theme.draw.stair
  const begin = Date.parse(steps[0].noticed)
  const x = (t: number) => ((t - begin) / Math.max(1, now - begin)) * width
  const y = (i: number) => height - 8 - (i * (height - 16)) / Math.max(1, steps.length - 1)
  const line = steps
    .map((m, i) => {
      const end = i + 1 < steps.length ? Date.parse(steps[i + 1].noticed) : now
      return `${i === 0 ? 'M' : 'L'}${x(Date.parse(m.noticed))} ${y(i)}H${x(end)}`
    })
    .join('')
  const newest = steps[steps.length - 1]
  return (
    <Box>
      <Box
        component="svg"
        viewBox={`0 0 ${width} ${height}`}
        preserveAspectRatio="none"
        role="img"
        aria-label={say.stair.title(steps.length, newest.new)}
        sx={{ display: 'block', width: '100%', height, bgcolor: 'background.default' }}
      >
        <path d={line} fill="none" stroke={theme.palette.text.primary} strokeWidth={theme.draw.line} vectorEffect="non-scaling-stroke" />
        {steps.map((m, i) => {
          const end = i + 1 < steps.length ? Date.parse(steps[i + 1].noticed) : now
          return (
            <rect
              key={m.id}
              x={x(Date.parse(m.noticed))}
              y={0}
              width={Math.max(1, x(end) - x(Date.parse(m.noticed)))}
              height={height}
              fill="transparent"
            >
              <title>{say.stair.since(m.new, exact(m.noticed))}</title>
            </rect>
          )
        })}
      </Box>
      <Box sx={{ display: 'flex', justifyContent: 'space-between' }}>
        <Typography variant="label">
          {exact(begin)}: {steps[0].new}
        </Typography>
        <Typography variant="label">{say.stair.now(newest.new)}</Typography>
      </Box>
    </Box>
  )
}
