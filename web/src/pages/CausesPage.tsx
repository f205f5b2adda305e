import { Box, Button, Link, MenuItem, Stack, TextField, Typography } from '@mui/material'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as To, useParams } from 'react-router'
import { api, at, type Accuracy, type Cause, type Fault } from '../api'
import { say } from '../catalogue'
import { Ago } from '../parts/Ago'
import { Crumbs } from '../parts/Crumbs'
import { Whose } from '../parts/FaultCard'
import { Field, Section, Trouble } from '../parts/Sheet'
import { Titled } from '../parts/Titled'

const words = say.causes

function Counts({ of }: { of?: Accuracy }) {
  if (!of) return null
  return (
    <Typography sx={{ color: 'text.secondary' }}>
      {words.told(of.told)}
      {of.judged > 0 && `, ${words.right(of.right, of.judged)}`}
      {of.instead?.map((i) => `, ${words.instead(i.count, i.cause || words.other)}`)}
    </Typography>
  )
}

// Judged asks what a fault that is over has been.
function Judging({ fault, causes }: { fault: Fault; causes: Cause[] }) {
  const queries = useQueryClient()
  const [actual, setActual] = useState('')
  const [note, setNote] = useState('')
  const judge = useMutation({
    mutationFn: (right: boolean) => api.judge(fault.id, right ? { right, note } : { right, note, ...(actual && { actual }) }),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['causes'] }),
  })
  return (
    <Box data-judge={fault.id} sx={{ borderTop: (t) => t.rule.field, px: 2, py: 1 }}>
      <Typography sx={{ fontWeight: 600 }}>
        <Whose fault={fault} /> {fault.finding.summary}.{' '}
        <Typography component="span" variant="label">
          {words.over} {fault.closed && <Ago at={fault.closed} />}
        </Typography>
      </Typography>
      <Trouble error={judge.error} />
      <Stack direction="row" sx={{ gap: 1, mt: 1, alignItems: 'center', flexWrap: 'wrap' }}>
        <Button size="small" variant="outlined" onClick={() => judge.mutate(true)}>
          {words.itWas(fault.finding.cause)}
        </Button>
        <TextField
          select
          size="small"
          label={words.itWasNot}
          value={actual}
          onChange={(e) => setActual(e.target.value)}
          sx={{ minWidth: '14rem' }}
          fullWidth={false}
        >
          <MenuItem value="">{words.other}</MenuItem>
          {causes.map((c) => (
            <MenuItem key={c.cause} value={c.cause}>
              {c.cause}
            </MenuItem>
          ))}
        </TextField>
        <TextField size="small" label={words.note} value={note} onChange={(e) => setNote(e.target.value)} fullWidth={false} />
        <Button size="small" variant="outlined" disabled={!actual && !note} onClick={() => judge.mutate(false)}>
          {words.keep}
        </Button>
      </Stack>
    </Box>
  )
}

// CausesPage lists the causes of faults with how often each was right, and asks what the newest faults have been.
export function CausesPage() {
  const list = useQuery({ queryKey: ['causes', 'list'], queryFn: api.causes })
  const accuracy = useQuery({ queryKey: ['causes', 'accuracy'], queryFn: api.accuracy })
  const faults = useQuery({ queryKey: ['causes', 'faults'], queryFn: api.pastFaults })
  const asked = (faults.data ?? []).filter((f) => f.closed && !f.judged && f.serious).slice(0, 5)
  return (
    <>
      <Titled of={say.frame.causes} />
      <Trouble error={list.error ?? accuracy.error ?? faults.error} />
      {asked.length > 0 && (
        <Section title={words.ask} id="judge">
          {asked.map((f) => (
            <Judging key={f.id} fault={f} causes={list.data ?? []} />
          ))}
        </Section>
      )}
      <Section title={words.title} id="causes">
        <Typography sx={{ px: 2, pb: 1 }}>{words.about}</Typography>
        {list.data?.map((c) => (
          <Stack
            key={c.cause}
            data-cause={c.cause}
            direction={{ xs: 'column', sm: 'row' }}
            sx={{ borderTop: (t) => t.rule.field, px: 2, py: 1, gap: { xs: 0, sm: 2 } }}
          >
            <Box sx={{ width: '12rem', flexShrink: 0 }}>
              <Link component={To} to={at('causes', c.cause)} color="text.primary" sx={{ fontWeight: 600 }}>
                {c.cause}
              </Link>
            </Box>
            <Box sx={{ flex: 1 }}>
              <Typography>{c.summary}.</Typography>
              <Counts of={accuracy.data?.find((a) => a.cause === c.cause)} />
            </Box>
          </Stack>
        ))}
      </Section>
    </>
  )
}

// CausePage explains one cause.
export function CausePage() {
  const { cause = '' } = useParams()
  const one = useQuery({ queryKey: ['causes', cause], queryFn: () => api.cause(cause) })
  const accuracy = useQuery({ queryKey: ['causes', 'accuracy'], queryFn: api.accuracy })
  const c = one.data
  return (
    <>
      <Crumbs above={[[say.frame.causes, '/causes']]} here={cause} />
      <Section title={cause} id="cause">
        <Titled of={cause} />
        <Trouble error={one.error} />
        {c && (
          <Box sx={{ px: 2, pb: 2 }}>
            <Typography sx={{ fontWeight: 600 }}>{c.summary}.</Typography>
            <Typography sx={{ mb: 1 }}>{c.next_step}</Typography>
            <Box sx={{ display: 'flex', flexWrap: 'wrap', pl: '1px', pt: '1px', mb: 1 }}>
              <Field label={words.hop}>{c.hop}</Field>
              <Field label={words.takes}>{c.takes}</Field>
              <Field label={words.who} wide>
                {c.who}
              </Field>
            </Box>
            <Counts of={accuracy.data?.find((a) => a.cause === cause)} />
            {c.can_wait && <Typography>{words.canWait}</Typography>}
            {c.predicts?.length ? (
              <>
                <Typography variant="h2" sx={{ mt: 2, mb: 1 }}>
                  {words.predicts}
                </Typography>
                {c.predicts.map((p) => (
                  <Stack
                    key={p.sign}
                    direction={{ xs: 'column', sm: 'row' }}
                    sx={{ borderTop: (t) => t.rule.field, py: 0.5, gap: { xs: 0, sm: 2 } }}
                  >
                    <Typography sx={{ width: '16rem', flexShrink: 0, fontWeight: p.hard ? 600 : 400 }}>{p.sign}</Typography>
                    <Typography sx={{ flex: 1 }}>{p.values.join('; ')}</Typography>
                    <Typography variant="label" sx={{ width: '10rem' }}>
                      {p.check ?? words.everyProbe}
                    </Typography>
                  </Stack>
                ))}
                <Typography variant="body2" sx={{ mt: 1, color: 'text.secondary' }}>
                  {words.hard}
                </Typography>
              </>
            ) : (
              <Typography sx={{ mt: 1 }}>{words.direct}</Typography>
            )}
          </Box>
        )}
      </Section>
    </>
  )
}
