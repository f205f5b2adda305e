import { Box, Typography } from '@mui/material'
import type { Move } from '../api'
import { say } from '../catalogue'
import { exact, length } from '../words'

// Trail draws the stages of a move to scale in the order in which they were reached, so that the slow one is obvious. A stage that
// took no time still has its tick. The words under it stand in the same order, each with the time since the change was noticed.
export function Trail({ move }: { move: Move }) {
  const stages = move.stages.slice(1)
  const whole = Math.max(move.total_ms, 0.001)
  const reached = stages.filter((s) => s.at).sort((a, b) => a.reached_ms - b.reached_ms)
  const gap = (i: number) => reached[i].reached_ms - (i > 0 ? reached[i - 1].reached_ms : 0)
  const slowest = reached.length > 0 ? reached[reached.map((_, i) => i).reduce((a, b) => (gap(b) > gap(a) ? b : a))] : undefined
  return (
    <Box data-move={move.id}>
      <Box sx={{ display: 'flex', height: (t) => t.draw.ribbon / 2, border: (t) => t.rule.field }} aria-hidden>
        {reached.map((s, i) => (
          <Box
            key={s.name}
            title={say.trail.after(s.name, length(s.reached_ms))}
            sx={{
              flexGrow: gap(i) / whole,
              flexBasis: 0,
              minWidth: 3,
              borderRight: (t) => (i < reached.length - 1 ? t.rule.field : 'none'),
              bgcolor: s === slowest && gap(i) > 0 ? 'text.primary' : i % 2 ? 'divider' : 'background.default',
            }}
          />
        ))}
      </Box>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 2, mt: 0.5 }}>
        {[...reached, ...stages.filter((s) => !s.at)].map((s) => (
          <Typography
            key={s.name}
            variant="label"
            title={s.at ? exact(s.at) : undefined}
            sx={s === slowest ? { color: 'text.primary', fontWeight: 700 } : undefined}
          >
            {s.name} {s.at ? '+' + length(s.reached_ms) : say.trail.notYet}
          </Typography>
        ))}
        {move.zones?.map((z) => (
          <Typography key={z.zone} variant="label" title={exact(z.at)}>
            {say.trail.zone(z.zone, length(z.reached_ms))}
          </Typography>
        ))}
        <Typography variant="label" sx={{ ml: 'auto' }}>
          {say.trail.total(length(move.total_ms))}
        </Typography>
      </Box>
    </Box>
  )
}
