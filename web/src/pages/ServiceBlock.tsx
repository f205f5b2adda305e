import { Alert, Box, Button, MenuItem, Stack, TextField, Typography } from '@mui/material'
import { useMutation } from '@tanstack/react-query'
import { useState } from 'react'
import { api, type Path, type Service, type ProbeTrace } from '../api'
import { say } from '../catalogue'
import { PathLine } from '../drawings/PathLine'
import { Weighed } from '../parts/Weighed'
import type { Window } from '../drawings/bars'
import { Ribbon } from '../drawings/Ribbon'
import { Ago } from '../parts/Ago'
import { exact, length, toneOf } from '../words'
import { ServiceDetail } from './ServiceDetail'

const words = say.service

// Trace is one probe, step by step.
function Trace({ trace }: { trace: ProbeTrace }) {
  return (
    <Box data-trace={trace.outcome} sx={{ border: (t) => t.rule.hair, px: 1.5, py: 1, mb: 1 }}>
      {trace.attempts.map((a) => (
        <Box key={`${a.target} ${a.transport}`}>
          <Typography sx={{ fontWeight: 600 }}>
            {words.attempt(a.target || words.noAddress, a.transport ?? '', trace.vantage, a.outcome)}
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
      {trace.by_name && <Typography>{`${words.byName}: ${words.given(trace.by_name)}`}</Typography>}
      {trace.weakness && <Typography sx={{ color: 'warning.main' }}>{say.warning(trace.weakness)}</Typography>}
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
  folded = false,
}: {
  site: string
  service: Service
  path?: Path
  vantages: string[]
  view: Window
  zoom: (w: Window) => void
  folded?: boolean // its path is shown on demand
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
          {service.kind} {service.outcome ?? words.notProbed}
          {words.on(`${service.transport} ${service.external}`)}
          {closed ? words.mustClose : service.open_until && words.openUntil(exact(service.open_until))}
          {words.probed}
          <Ago at={service.probed} />
        </Typography>
        <Box sx={{ flex: 1 }} />
        {vantages.length > 1 && (
          <TextField
            select
            size="small"
            fullWidth={false}
            variant="standard"
            label={words.from}
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
          {words.probeNow}
        </Button>
        <Button size="small" variant="outlined" color="inherit" aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? words.less : words.more}
        </Button>
      </Stack>
      {probe.error && (
        <Alert severity="error" sx={{ mb: 1 }}>
          {probe.error.message}
        </Alert>
      )}
      {probe.data && <Trace trace={probe.data} />}
      {service.not_provable && (
        <Alert severity="warning" sx={{ mb: 1 }}>
          {words.silence}
        </Alert>
      )}
      {path && (!folded || open || probe.data) && <PathLine path={path} />}
      {path?.finding && <Weighed site={site} service={service.name} finding={path.finding} />}
      <Box sx={{ mt: 1 }}>
        <Ribbon site={site} service={service.name} view={view} zoom={zoom} />
      </Box>
      {open && <ServiceDetail site={site} service={service} view={view} />}
    </Box>
  )
}
