import { Alert, Box, Button, MenuItem, Stack, TextField, Typography } from '@mui/material'
import { useMutation } from '@tanstack/react-query'
import { useState } from 'react'
import { api, type Path, type Service, type ProbeTrace } from '../api'
import { PathLine } from '../drawings/PathLine'
import { Ribbon, type Window } from '../drawings/Ribbon'
import { Ago } from '../parts/Ago'
import { exact, length, toneOf } from '../words'
import { ServiceDetail } from './ServiceDetail'

// Told is the story of one probe, step by step.
function Told({ story }: { story: ProbeTrace }) {
  return (
    <Box data-story={story.outcome} sx={{ border: (t) => t.rule.hair, px: 1.5, py: 1, mb: 1 }}>
      {story.attempts.map((a) => (
        <Box key={`${a.target} ${a.transport}`}>
          <Typography sx={{ fontWeight: 600 }}>
            {a.target || 'no address'} {a.transport} from {story.vantage}: {a.outcome}
          </Typography>
          {(a.steps ?? [{ step: '', at_us: a.took_us, words: a.message }]).map((s, i) => (
            <Stack key={i} direction="row" sx={{ gap: 1.5 }}>
              <Typography variant="mono" sx={{ color: 'text.secondary', minWidth: (t) => t.draw.word, textAlign: 'right' }}>
                {length(s.at_us / 1000)}
              </Typography>
              <Typography sx={{ minWidth: (t) => t.draw.word }}>{s.step}</Typography>
              <Typography variant="mono" sx={{ overflowWrap: 'anywhere' }}>
                {s.words}
              </Typography>
            </Stack>
          ))}
        </Box>
      ))}
      {story.by_name && (
        <Typography>
          By name: {story.by_name.hostname} is {story.by_name.given} by {story.by_name.resolver}. {story.by_name.message}
        </Typography>
      )}
      {story.weakness && <Typography sx={{ color: 'warning.main' }}>Warning: {story.weakness}.</Typography>}
    </Box>
  )
}

// ServiceBlock is one service: how it stands, the way to it, and what it did.
export function ServiceBlock({
  site,
  service,
  path,
  vantages,
  view,
  zoom,
}: {
  site: string
  service: Service
  path?: Path
  vantages: string[]
  view: Window
  zoom: (w: Window) => void
}) {
  const [chosen, setFrom] = useState('')
  const from = chosen || vantages[0] || ''
  const [open, setOpen] = useState(false)
  const probe = useMutation({ mutationFn: () => api.probe(site, service.name, from) })
  const closed = service.expected_now === 'closed'
  return (
    <Box
      data-service={service.name}
      data-state={service.state}
      data-outcome={service.outcome}
      sx={{ borderTop: (t) => t.rule.field, px: 2, py: 1.5 }}
    >
      <Stack direction="row" sx={{ alignItems: 'baseline', columnGap: 2, rowGap: 0.5, mb: 1, flexWrap: 'wrap' }}>
        <Typography variant="value">{service.name}</Typography>
        <Typography sx={{ color: toneOf[service.verdict], fontWeight: 600 }}>{service.state_words}</Typography>
        <Typography variant="body2" sx={{ color: 'text.secondary' }}>
          {service.kind} {service.outcome ?? 'not probed'} on {service.transport} {service.external}
          {closed ? ', must stay closed' : service.open_until ? `, open until ${exact(service.open_until)}` : ''}, probed{' '}
          <Ago at={service.probed} />
        </Typography>
        <Box sx={{ flex: 1 }} />
        {vantages.length > 1 && (
          <TextField
            select
            size="small"
            fullWidth={false}
            variant="standard"
            label="from"
            value={from}
            onChange={(e) => setFrom(e.target.value)}
            sx={{ minWidth: (t) => t.draw.word }}
          >
            {vantages.map((v) => (
              <MenuItem key={v} value={v}>
                {v}
              </MenuItem>
            ))}
          </TextField>
        )}
        <Button size="small" variant="outlined" disabled={probe.isPending} onClick={() => probe.mutate()}>
          Probe now
        </Button>
        <Button size="small" variant="outlined" color="inherit" aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? 'Less' : 'More'}
        </Button>
      </Stack>
      {probe.error && (
        <Alert severity="error" sx={{ mb: 1 }}>
          {probe.error.message}
        </Alert>
      )}
      {probe.data && <Told story={probe.data} />}
      {service.not_provable && (
        <Alert severity="warning" sx={{ mb: 1 }}>
          Silence proves nothing here: a working service of this kind may ignore a probe. Have the agent prove the path, below.
        </Alert>
      )}
      {path && <PathLine path={path} />}
      <Box sx={{ mt: 1 }}>
        <Ribbon site={site} service={service.name} expected={service.expected_now} mute={service.not_provable} view={view} zoom={zoom} />
      </Box>
      {open && <ServiceDetail site={site} service={service} view={view} />}
    </Box>
  )
}
