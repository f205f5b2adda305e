import { Alert, Box, Button, MenuItem, Stack, TextField, Typography } from '@mui/material'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api, type ProbeTrace } from '../api'
import { say } from '../catalogue'
import { length } from '../words'

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

// useProbing probes a service from a vantage point that is chosen. Button asks for it, Story is what came back.
export function useProbing(site: string, service: string) {
  const known = useQuery({ queryKey: ['vantages'], queryFn: api.vantages })
  const vantages = (known.data ?? []).filter((v) => v.state !== 'invited').map((v) => v.name)
  const [chosen, choose] = useState('')
  const from = chosen || vantages[0] || ''
  const probe = useMutation({ mutationFn: () => api.probe(site, service, from) })
  return {
    probed: probe.data !== undefined,
    ask: (
      <>
        {vantages.length > 1 && (
          <TextField
            select
            size="small"
            fullWidth={false}
            variant="standard"
            label={words.from}
            value={from}
            onChange={(e) => choose(e.target.value)}
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
      </>
    ),
    story: (
      <>
        {probe.error && (
          <Alert severity="error" sx={{ mb: 1 }}>
            {probe.error.message}
          </Alert>
        )}
        {probe.data && <Trace trace={probe.data} />}
      </>
    ),
  }
}
