import { Alert, Box, Button, Stack, TextField, Typography } from '@mui/material'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api, type Link, type Site } from '../api'
import { say } from '../catalogue'
import { Ago } from '../parts/Ago'
import { Field, Section } from '../parts/Sheet'
import { capital, exact, toneOf } from '../words'

const words = say.inside

function LinkSide({ link }: { link: Link }) {
  const s = link.report
  if (!s) return null
  return (
    <Box data-link={link.label} sx={{ borderTop: (t) => t.rule.field, px: 2, py: 1.5 }}>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', pl: '1px', pt: '1px', mb: 1 }}>
        <Field label={words.inFront(link.label)} tone={toneOf[s.verdict]}>
          {words.nat[s.nat] ?? s.nat}
        </Field>
        <Field label={words.routerAddress}>{s.router_address ?? words.notReported}</Field>
        <Field label={words.agent} wide>
          {link.failing ? words.down : s.agent?.trim() ? s.agent : words.none}
        </Field>
      </Box>
      {s.words && (
        <Typography>
          {capital(s.words)}
          {s.chain?.length ? words.wayOut(s.chain.join(words.then)) : ''}.
        </Typography>
      )}
      {s.remedies?.map((r) => (
        <Typography key={r} sx={{ pl: 2 }}>
          {r}
        </Typography>
      ))}
      {link.change_pattern && (
        <Typography data-pattern>
          {words.pattern(link.change_pattern.words, exact(link.change_pattern.next), Math.round(100 * link.change_pattern.sure))}
        </Typography>
      )}
      {s.gateway_words?.map((w) => (
        <Typography key={w} data-gateway>
          {words.routerSays}
          {w}
        </Typography>
      ))}
      {s.held && (
        <Alert severity="warning" sx={{ my: 1 }}>
          {s.held}
        </Alert>
      )}
      {s.resolver && (
        <Alert severity="warning" sx={{ my: 1 }}>
          {s.resolver}
        </Alert>
      )}
      {s.refused?.map((r) => (
        <Alert key={r.reason} severity={r.stranger ? 'info' : 'warning'} sx={{ my: 1 }}>
          {words.refused(r.count)}
          <Ago at={r.last} />
          {words.refusedFrom(r.from ?? '-', r.reason)}
        </Alert>
      ))}
      <Box sx={{ mt: 1 }}>
        {s.sources?.map((r) => (
          <Stack key={`${r.source} ${r.via}`} direction="row" sx={{ borderTop: (t) => t.rule.hair, gap: 2, py: 0.5, flexWrap: 'wrap' }}>
            <Typography sx={{ minWidth: (t) => t.draw.stationWidth, fontWeight: 600 }}>{r.source}</Typography>
            <Typography variant="mono">
              {r.via ? `${r.via}: ` : ''}
              {r.problem ?? r.addresses}
            </Typography>
            {r.dissent && <Typography sx={{ color: 'warning.main' }}>{r.dissent}</Typography>}
          </Stack>
        ))}
      </Box>
    </Box>
  )
}

function Proof({ site }: { site: Site }) {
  const [port, setPort] = useState('')
  const prove = useMutation({ mutationFn: (transport: string) => api.prove(site.code, transport, Number(port)) })
  return (
    <Box sx={{ borderTop: (t) => t.rule.field, px: 2, py: 1.5 }}>
      <Stack direction="row" sx={{ gap: 1, alignItems: 'center', flexWrap: 'wrap' }}>
        <Typography sx={{ flex: 1, minWidth: (t) => t.draw.stationWidth }}>{words.proof}</Typography>
        <TextField
          size="small"
          fullWidth={false}
          sx={{ width: (t) => t.draw.stationWidth }}
          name="proof-port"
          label={words.port}
          value={port}
          onChange={(e) => setPort(e.target.value)}
        />
        {['tcp', 'udp'].map((t) => (
          <Button key={t} size="small" variant="outlined" disabled={prove.isPending || !/^\d+$/.test(port)} onClick={() => prove.mutate(t)}>
            {words.prove(t)}
          </Button>
        ))}
      </Stack>
      {prove.isPending && <Typography sx={{ mt: 1 }}>{words.proving}</Typography>}
      {prove.error && (
        <Alert severity="error" sx={{ mt: 1 }}>
          {prove.error.message}
        </Alert>
      )}
      {prove.data && (
        <Alert severity={prove.data.proven ? 'success' : 'warning'} sx={{ mt: 1 }}>
          {prove.data.proven ? words.proven : words.notProven}: {prove.data.words}. {prove.data.next_step}
        </Alert>
      )}
    </Box>
  )
}

// SiteSide is the site as its agent sees it: where its address is known from, what stands in front of the router, and the devices from
// inside.
export function SiteSide({ site }: { site: Site }) {
  const lan = useQuery({ queryKey: ['lan', site.code], queryFn: () => api.lan(site.code) })
  const look = useMutation({ mutationFn: () => api.look(site.code), onSuccess: () => lan.refetch() })
  if (!site.links.some((l) => l.report)) return null
  return (
    <Section
      title={words.title}
      id="site-side"
      aside={
        <Button size="small" variant="outlined" disabled={look.isPending} onClick={() => look.mutate()}>
          {words.look}
        </Button>
      }
    >
      {look.error && (
        <Alert severity="error" sx={{ mx: 2, mb: 1 }}>
          {look.error.message}
        </Alert>
      )}
      {site.links.map((l) => (
        <LinkSide key={l.label} link={l} />
      ))}
      {lan.data?.map((d) => (
        <Stack
          key={d.device}
          data-device={d.device}
          direction="row"
          sx={{ borderTop: (t) => t.rule.hair, px: 2, py: 0.75, gap: 2, flexWrap: 'wrap' }}
        >
          <Typography sx={{ minWidth: (t) => t.draw.stationWidth, fontWeight: 600 }}>{d.device}</Typography>
          <Typography sx={{ color: toneOf[d.verdict ?? 'unproven'] }}>{d.words}</Typography>
          <Typography variant="mono">{[d.mac, d.ipv6].filter(Boolean).join(' ')}</Typography>
          <Typography sx={{ flex: 1 }}>{d.ports?.map((p) => `${p.service} ${p.state}`).join(', ')}</Typography>
          <Typography variant="body2" sx={{ color: 'text.secondary' }}>
            <Ago at={d.at} />
          </Typography>
        </Stack>
      ))}
      <Proof site={site} />
    </Section>
  )
}
