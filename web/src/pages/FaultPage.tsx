import { Box, Button, Link, Stack, TextField, Typography } from '@mui/material'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState, type ReactNode } from 'react'
import { Link as To, useParams } from 'react-router'
import { api, at, type FaultStory } from '../api'
import { say } from '../catalogue'
import { Ago } from '../parts/Ago'
import { Crumbs, OfSite } from '../parts/Crumbs'
import { Explained } from '../parts/FaultCard'
import { Field, Section, Trouble } from '../parts/Sheet'
import { Titled } from '../parts/Titled'
import { useSession } from '../parts/session'
import { exact, length } from '../words'

const words = say.fault

function lasted(f: FaultStory): string {
  return length(Date.parse(f.closed ?? '') - Date.parse(f.opened))
}

// Taken says who has taken a fault up, and lets one do so.
function Taken({ f, changed }: { f: FaultStory; changed: () => void }) {
  const session = useSession()
  const take = useMutation({
    mutationFn: (of: { acknowledged?: boolean; assigned?: string }) => api.takeFault(f.id, of),
    onSuccess: changed,
  })
  const taken = f.assigned || f.acknowledged
  return (
    <>
      <Trouble error={take.error} />
      <Stack direction="row" sx={{ gap: 1, flexWrap: 'wrap' }}>
        {!f.acknowledged && (
          <Button variant="outlined" onClick={() => take.mutate({ acknowledged: true })}>
            {words.take}
          </Button>
        )}
        {f.assigned !== session.name && (
          <Button variant="outlined" onClick={() => take.mutate({ acknowledged: true, assigned: session.name })}>
            {words.mine(session.name)}
          </Button>
        )}
        {taken && (
          <Button variant="outlined" onClick={() => take.mutate({ acknowledged: false, assigned: '' })}>
            {words.release}
          </Button>
        )}
      </Stack>
    </>
  )
}

function Noting({ f, changed }: { f: FaultStory; changed: () => void }) {
  const [note, setNote] = useState('')
  const keep = useMutation({
    mutationFn: () => api.noteFault(f.id, note),
    onSuccess: () => {
      setNote('')
      changed()
    },
  })
  return (
    <>
      <Trouble error={keep.error} />
      <Stack direction="row" sx={{ gap: 1, alignItems: 'center' }}>
        <TextField label={words.note} value={note} onChange={(e) => setNote(e.target.value)} fullWidth />
        <Button variant="outlined" disabled={!note.trim()} onClick={() => keep.mutate()} sx={{ whiteSpace: 'nowrap' }}>
          {words.keep}
        </Button>
      </Stack>
    </>
  )
}

// Muting plans work where a fault is: nobody is told of it meanwhile.
function Muting({ f, changed }: { f: FaultStory; changed: () => void }) {
  const [reason, setReason] = useState('')
  const work = useQuery({ queryKey: ['faults', 'work'], queryFn: api.plannedWork })
  const mute = useMutation({ mutationFn: (hours: number) => api.muteFault(f.id, hours * 60, reason), onSuccess: changed })
  const end = useMutation({ mutationFn: api.endWork, onSuccess: changed })
  const ours = (work.data ?? []).filter((w) => w.active && w.fault === f.id)
  return (
    <>
      <Trouble error={mute.error ?? end.error} />
      <Stack direction="row" sx={{ gap: 1, alignItems: 'center', flexWrap: 'wrap' }}>
        {f.planned_until ? (
          ours.map((w) => (
            <Button key={w.id} variant="outlined" onClick={() => end.mutate(w.id)}>
              {words.end}
            </Button>
          ))
        ) : (
          <>
            <Typography>{words.mute}</Typography>
            {[1, 3, 8].map((n) => (
              <Button key={n} variant="outlined" onClick={() => mute.mutate(n)}>
                {words.hours(n)}
              </Button>
            ))}
            <TextField label={words.reason} value={reason} onChange={(e) => setReason(e.target.value)} fullWidth={false} />
          </>
        )}
      </Stack>
    </>
  )
}

function Row({ children }: { children: ReactNode }) {
  return <Box sx={{ borderTop: (t) => t.rule.field, px: 2, py: 1 }}>{children}</Box>
}

// FaultPage is a fault: what is so, what to do, who has taken it up, and all that happened to it.
export function FaultPage() {
  const { id = '' } = useParams()
  const queries = useQueryClient()
  const one = useQuery({ queryKey: ['faults', id], queryFn: () => api.fault(id) })
  const f = one.data
  const changed = () => void queries.invalidateQueries({ queryKey: ['faults'] })
  if (!f) return <Trouble error={one.error} />
  const who = f.assigned ? words.whose(f.assigned) : f.acknowledged_by ? words.known(f.acknowledged_by) : words.nobody
  return (
    <>
      <Titled of={f.site || f.provider || words.one(id)} />
      {f.site ? <OfSite code={f.site} here={words.one(id)} /> : <Crumbs here={words.one(id)} />}
      <Trouble error={one.error} />
      <Section
        title={f.site || f.provider || f.finding.subject || words.one(id)}
        id="fault"
        aside={
          f.site ? (
            <Link component={To} to={at('sites', f.site)} color="text.primary">
              {f.site_name}
            </Link>
          ) : undefined
        }
      >
        <Row>
          <Typography sx={{ color: f.closed ? 'success.main' : f.serious ? 'error.main' : 'warning.main', fontWeight: 600 }}>
            {words.one(id)}
          </Typography>
          <Explained finding={f.finding} />
        </Row>
        <Box sx={{ display: 'flex', flexWrap: 'wrap', px: 2, pt: '1px', pl: 'calc(1rem + 1px)' }}>
          <Field label={f.closed ? words.over : words.since}>{f.closed ? lasted(f) : <Ago at={f.opened} />}</Field>
          <Field label={words.noticed}>{words.afterFirst(length(Date.parse(f.opened) - Date.parse(f.began)))}</Field>
          <Field label={words.state} wide>
            {who}
          </Field>
          {f.planned_until && <Field label={words.planned}>{exact(f.planned_until)}</Field>}
        </Box>
        {f.returns ? <Typography sx={{ px: 2, pt: 1 }}>{words.returns(f.returns)}</Typography> : null}
        {f.under ? (
          <Typography sx={{ px: 2, pt: 1 }}>
            <Link component={To} to={at('faults', String(f.under))} color="text.primary">
              {words.under}
            </Link>
          </Typography>
        ) : null}
        <Box sx={{ display: 'grid', gap: 1.5, px: 2, py: 1.5 }}>
          {!f.closed && <Taken f={f} changed={changed} />}
          {!f.closed && <Muting f={f} changed={changed} />}
          <Noting f={f} changed={changed} />
        </Box>
      </Section>
      {f.explains.length > 0 && (
        <Section title={words.explains} id="explains">
          {f.explains.map((one) => (
            <Row key={one.id}>
              <Link component={To} to={at('sites', one.site)} color="text.primary" sx={{ fontWeight: 600 }}>
                {one.site}
              </Link>{' '}
              {one.site_name}
            </Row>
          ))}
        </Section>
      )}
      <Section title={words.happened} id="timeline">
        {f.timeline.map((e) => (
          <Stack
            key={e.at + e.kind}
            data-event={e.kind}
            direction={{ xs: 'column', sm: 'row' }}
            sx={{ borderTop: (t) => t.rule.hair, px: 2, py: 0.5, gap: { xs: 0, sm: 2 } }}
          >
            <Typography variant="label" sx={{ width: '11rem', flexShrink: 0 }}>
              {exact(e.at)}
            </Typography>
            <Typography sx={{ width: '7rem', flexShrink: 0, fontWeight: 600 }}>{e.kind}</Typography>
            <Typography sx={{ flex: 1, overflowWrap: 'anywhere' }}>{e.by ? `${e.by}: ${e.words}` : e.words}</Typography>
          </Stack>
        ))}
      </Section>
      {f.finding.evidence && (
        <Section title={words.evidence} id="evidence">
          {f.finding.evidence.map((line) => (
            <Row key={line}>{line}</Row>
          ))}
        </Section>
      )}
    </>
  )
}
