import { useState } from 'react'
import { Alert, Box, Button, Typography } from '@mui/material'
import { useQuery } from '@tanstack/react-query'
import { api, type Finding } from '../api'
import { say } from '../catalogue'

// shown is how many causes are listed: those further down are excluded anyway.
const shown = 12

// Weighed shows, under a break, what was seen and how the causes of one service were weighed.
export function Weighed({ site, service, finding }: { site: string; service: string; finding: Finding }) {
  const [open, setOpen] = useState(false)
  const why = useQuery({ queryKey: ['why', site], queryFn: () => api.why(site), enabled: open })
  const ranking = why.data?.rankings.find((r) => r.services.includes(service))
  return (
    <Box data-weighed={service} sx={{ borderLeft: (t) => t.rule.broken, pl: 1.5, pt: 0.5 }}>
      <Typography variant="label" component="div">
        {say.fault.evidence}
      </Typography>
      {finding.evidence.map((e) => (
        <Typography key={e} variant="body2">
          {e}
        </Typography>
      ))}
      <Button size="small" color="inherit" aria-expanded={open} onClick={() => setOpen(!open)} sx={{ pl: 0 }}>
        {say.fault.weighed}
      </Button>
      {why.error && <Alert severity="error">{why.error.message}</Alert>}
      {open &&
        ranking?.causes.slice(0, shown).map((c) => (
          <Box key={c.cause} data-cause={c.cause} sx={{ mb: 0.5, color: c.excluded ? 'text.secondary' : 'text.primary' }}>
            <Typography variant="body2" sx={{ fontWeight: c.excluded ? 400 : 600 }}>
              {c.excluded ? say.fault.excluded : say.fault.share(c.share)} · {c.cause}: {c.summary}.
            </Typography>
            {(c.excluded ? [] : c.for)?.map((r) => (
              <Typography key={r} variant="body2" sx={{ pl: 2 }}>
                {say.fault.pro(r)}
              </Typography>
            ))}
            {c.against?.map((r) => (
              <Typography key={r} variant="body2" sx={{ pl: 2, color: 'error.main' }}>
                {say.fault.contra(r)}
              </Typography>
            ))}
          </Box>
        ))}
      {open && ranking?.unknown && <Typography variant="body2">{say.fault.unknown(ranking.unknown.join(', '))}</Typography>}
    </Box>
  )
}
