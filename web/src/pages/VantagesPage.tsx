import { Alert, Box, Button, Stack, TextField, Typography } from '@mui/material'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api, nobodySaid, type Vantage } from '../api'
import { Ago } from '../parts/Ago'
import { Removal, type Doomed } from '../parts/Part'
import { Field, Section, Trouble } from '../parts/Sheet'
import { toneOf } from '../words'

function One({ v, remove }: { v: Vantage; remove: () => void }) {
  return (
    <Box data-vantage={v.name} data-state={v.state} sx={{ borderTop: (t) => t.rule.field, px: 2, py: 1.5 }}>
      <Stack direction="row" sx={{ alignItems: 'baseline', columnGap: 2, flexWrap: 'wrap', mb: 1 }}>
        <Typography variant="value">{v.name}</Typography>
        <Typography sx={{ color: toneOf[v.verdict], fontWeight: 600 }}>{v.state}</Typography>
        <Typography sx={{ color: 'text.secondary' }}>{v.own ? 'this server' : v.note}</Typography>
        <Box sx={{ flex: 1 }} />
        {!v.own && (
          <Button size="small" color="error" onClick={remove} aria-label={`Remove ${v.name}`}>
            Remove
          </Button>
        )}
      </Stack>
      {v.problem && (
        <Alert severity="warning" sx={{ mb: 1 }}>
          What it sees does not count for now: {v.problem}
        </Alert>
      )}
      <Box sx={{ display: 'flex', flexWrap: 'wrap', pl: '1px', pt: '1px' }}>
        <Field label="services in view">{v.services}</Field>
        <Field label="heard">{v.own ? 'always' : <Ago at={v.heard} />}</Field>
        <Field label="seen at">{v.observed ?? '–'}</Field>
        <Field label="its networks" wide>
          {v.networks?.join(', ') || '–'}
        </Field>
        <Field label="kept for later">{v.waiting ?? 0}</Field>
      </Box>
    </Box>
  )
}

// VantagesPage lists the places from which services are probed.
export function VantagesPage() {
  const [name, setName] = useState('')
  const [note, setNote] = useState('')
  const [doomed, setDoomed] = useState<Doomed | null>(null)
  const list = useQuery({ queryKey: ['vantages'], queryFn: api.vantages, refetchInterval: 3000 })
  const invite = useMutation({ mutationFn: () => api.inviteVantage(name, note), onSuccess: () => list.refetch() })
  return (
    <Section title="Vantage points" id="vantages">
      <Trouble error={list.error} />
      <Typography sx={{ px: 2, pb: 1 }}>
        Services are probed from these places. A service is unreachable when more than half of them cannot reach it, and impaired when some
        can and others cannot.
      </Typography>
      {list.data?.map((v) => (
        <One
          key={v.id}
          v={v}
          remove={() =>
            setDoomed({
              key: v.name,
              path: `/vantages/${v.name}`,
              words: 'Its key stops working at once, and what it saw no longer counts.',
            })
          }
        />
      ))}
      <Box sx={{ borderTop: (t) => t.rule.field, px: 2, py: 1.5 }}>
        <Stack direction="row" sx={{ gap: 1, alignItems: 'center', flexWrap: 'wrap' }}>
          <TextField size="small" fullWidth={false} name="vantage" label="Name" value={name} onChange={(e) => setName(e.target.value)} />
          <TextField
            size="small"
            fullWidth={false}
            name="vantage-note"
            label="Where it stands"
            value={note}
            onChange={(e) => setNote(e.target.value)}
          />
          <Button size="small" variant="outlined" disabled={invite.isPending || !name} onClick={() => invite.mutate()}>
            Invite
          </Button>
        </Stack>
        {invite.error && (
          <Alert severity="error" sx={{ mt: 1 }}>
            {invite.error.message}
          </Alert>
        )}
        {invite.data && (
          <Alert severity="info" sx={{ mt: 1 }}>
            One-time code for {invite.data.vantage}: <strong>{invite.data.code}</strong>. There: inkpost vantage run --server{' '}
            {invite.data.server ?? location.origin} --code {invite.data.code}
            {!invite.data.server && nobodySaid}
          </Alert>
        )}
      </Box>
      {doomed && <Removal doomed={doomed} keep={() => setDoomed(null)} removed={() => setDoomed(null)} />}
    </Section>
  )
}
