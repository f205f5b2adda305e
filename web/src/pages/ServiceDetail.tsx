import { Alert, Box, Button, Stack, Table, TableBody, TableCell, TableHead, TableRow, Typography } from '@mui/material'
import { useMutation, useQueryClient } from '@tanstack/react-query'
import { api, type Availability, type Card, type Service } from '../api'
import { say } from '../catalogue'
import { Ago } from '../parts/Ago'
import { Field } from '../parts/Sheet'
import { exact, length } from '../words'

const words = say.service
const seconds = (s: number) => (s ? length(s * 1000) : '–')
const micros = (us: number) => (us ? length(us / 1000) : '–')

export function Windows({ list }: { list: Availability[] }) {
  return (
    <Box sx={{ overflowX: 'auto' }}>
      <Table size="small">
        <TableHead>
          <TableRow>
            {words.columns.map((h) => (
              <TableCell key={h}>{h}</TableCell>
            ))}
          </TableRow>
        </TableHead>
        <TableBody>
          {list.map((w) => (
            <TableRow key={w.window} data-window={w.window}>
              <TableCell>{w.window}</TableCell>
              <TableCell sx={{ fontWeight: 600 }}>{w.share === null ? '–' : `${(100 * w.share).toFixed(3)} %`}</TableCell>
              <TableCell>{seconds(w.failing_s)}</TableCell>
              <TableCell>{seconds(w.impaired_s)}</TableCell>
              <TableCell>{seconds(w.unknown_s)}</TableCell>
              <TableCell>{micros(w.median_us)}</TableCell>
              <TableCell>{micros(w.p95_us)}</TableCell>
              <TableCell>{micros(w.p99_us)}</TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
    </Box>
  )
}

export function CardSheet({ card }: { card: Card }) {
  return (
    <Box data-card={card.title} sx={{ mt: 1.5 }}>
      <Typography sx={{ fontWeight: 600 }}>{words.card(card.title, card.where)}</Typography>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', pl: '1px', pt: '1px' }}>
        {card.fields.map((f) => (
          <Field key={f.label} label={f.label}>
            {f.value}
          </Field>
        ))}
      </Box>
      {card.note && <Typography variant="body2">{card.note}</Typography>}
    </Box>
  )
}

// ServiceDetail is what is seen of a service: each vantage point's view, and what it is recognised by.
export function ServiceDetail({ site, service }: { site: string; service: Service }) {
  const queries = useQueryClient()
  const pin = useMutation({
    mutationFn: () => api.pin(site, service.name),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['site', site] }),
  })
  const strange = service.fingerprint && service.fingerprint_seen && service.fingerprint !== service.fingerprint_seen
  return (
    <Box sx={{ px: 2, pb: 2 }}>
      {service.vantages?.map((v) => (
        <Stack
          key={v.vantage}
          data-view={v.vantage}
          direction="row"
          sx={{ columnGap: 2, flexWrap: 'wrap', borderBottom: (t) => t.rule.hair, py: 0.5 }}
        >
          <Typography sx={{ fontWeight: 600, minWidth: (t) => t.draw.stationWidth }}>{v.vantage}</Typography>
          <Typography>
            {v.outcome}
            {words.inRow(v.in_row)}
            <Ago at={v.at} />
          </Typography>
          <Typography variant="mono">{v.message}</Typography>
          {v.does_not_count && <Typography sx={{ color: 'warning.main' }}>{words.doesNotCount(v.does_not_count)}</Typography>}
        </Stack>
      ))}
      {service.fingerprint && (
        <Stack direction="row" sx={{ alignItems: 'center', columnGap: 2, flexWrap: 'wrap', py: 0.5 }}>
          <Typography sx={{ minWidth: (t) => t.draw.stationWidth, fontWeight: 600 }}>{words.recognisedBy}</Typography>
          <Typography variant="mono" sx={{ overflowWrap: 'anywhere' }}>
            {service.fingerprint}
          </Typography>
          <Typography variant="body2" sx={{ color: 'text.secondary' }}>
            {words.pinnedBy(service.pinned_by ?? '')}
            <Ago at={service.pinned} />
          </Typography>
        </Stack>
      )}
      {pin.error && <Alert severity="error">{pin.error.message}</Alert>}
      {strange && (
        <Alert
          severity="error"
          action={
            <Button color="inherit" size="small" disabled={pin.isPending} onClick={() => pin.mutate()}>
              {words.pin}
            </Button>
          }
        >
          {words.shows(service.fingerprint_seen ?? '')}
        </Alert>
      )}
      {service.certificate && (
        <Typography>
          {words.certificate(service.certificate.names?.join(', ') || words.nobody, exact(service.certificate.expires))}
          {service.certificate.problem ? `: ${service.certificate.problem}` : ''}.
        </Typography>
      )}
      {service.ways?.map((w) => (
        <Typography key={w.way} data-way={w.way}>
          {w.way === 'pinhole' ? words.pinhole : words.forward}
          {w.target && words.at(w.target)}: {w.outcome}
          {w.message ? ` (${w.message})` : ''}.
        </Typography>
      ))}
      {service.by_name && (
        <Typography>
          {words.byName}, <Ago at={service.by_name.at} />: {words.given(service.by_name)}
        </Typography>
      )}
      {service.weakness && <Typography sx={{ color: 'warning.main' }}>{say.warning(service.weakness)}</Typography>}
      {service.probe_peer_key && (
        <Typography>
          {words.peer}
          <Typography component="span" variant="mono">
            {service.probe_peer_key}
          </Typography>
          {Object.entries(service.vantage_peer_keys ?? {}).map(([name, key]) => (
            <span key={name}>
              {words.peerFor(name)}
              <Typography component="span" variant="mono">
                {key}
              </Typography>
            </span>
          ))}
        </Typography>
      )}
    </Box>
  )
}
