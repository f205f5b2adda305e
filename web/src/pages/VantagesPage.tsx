import { Alert, Box, Button, Stack, TextField, Typography } from '@mui/material'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { at, api, type Vantage } from '../api'
import { say } from '../catalogue'
import { Ago } from '../parts/Ago'
import { Removal, type Doomed } from '../parts/Part'
import { Field, Section, Trouble } from '../parts/Sheet'
import { Titled } from '../parts/Titled'
import { toneOf } from '../words'

const words = say.vantages

function One({ v, remove }: { v: Vantage; remove: () => void }) {
  return (
    <Box data-vantage={v.name} data-state={v.state} sx={{ borderTop: (t) => t.rule.field, px: 2, py: 1.5 }}>
      <Stack direction="row" sx={{ alignItems: 'baseline', columnGap: 2, flexWrap: 'wrap', mb: 1 }}>
        <Typography variant="value">{v.name}</Typography>
        <Typography sx={{ color: toneOf[v.verdict], fontWeight: 600 }}>{v.state}</Typography>
        <Typography sx={{ color: 'text.secondary' }}>{v.own ? words.own : v.note}</Typography>
        <Box sx={{ flex: 1 }} />
        {!v.own && (
          <Button size="small" color="inherit" onClick={remove} aria-label={`${say.form.remove} ${v.name}`}>
            {say.form.remove}
          </Button>
        )}
      </Stack>
      {v.problem && (
        <Alert severity="warning" sx={{ mb: 1 }}>
          {words.ignored(v.problem)}
        </Alert>
      )}
      <Box sx={{ display: 'flex', flexWrap: 'wrap', pl: '1px', pt: '1px' }}>
        <Field label={words.services}>{v.services}</Field>
        <Field label={words.heard}>{v.own ? words.always : <Ago at={v.heard} />}</Field>
        <Field label={words.seenAt}>{v.observed ?? '–'}</Field>
        <Field label={words.networks} wide>
          {v.networks?.join(', ') || '–'}
        </Field>
        <Field label={words.waiting}>{v.waiting ?? 0}</Field>
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
    <Section title={words.title} id="vantages">
      <Titled of={words.title} />
      <Trouble error={list.error} />
      <Typography sx={{ px: 2, pb: 1 }}>{words.about}</Typography>
      {list.data?.map((v) => (
        <One key={v.id} v={v} remove={() => setDoomed({ key: v.name, path: at('vantages', v.name), words: words.removal })} />
      ))}
      <Box sx={{ borderTop: (t) => t.rule.field, px: 2, py: 1.5 }}>
        <Stack direction="row" sx={{ gap: 1, alignItems: 'center', flexWrap: 'wrap' }}>
          <TextField
            size="small"
            fullWidth={false}
            name="vantage"
            label={words.name}
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
          <TextField
            size="small"
            fullWidth={false}
            name="vantage-note"
            label={words.where}
            value={note}
            onChange={(e) => setNote(e.target.value)}
          />
          <Button size="small" variant="outlined" disabled={invite.isPending || !name} onClick={() => invite.mutate()}>
            {words.invite}
          </Button>
        </Stack>
        {invite.error && (
          <Alert severity="error" sx={{ mt: 1 }}>
            {invite.error.message}
          </Alert>
        )}
        {invite.data && (
          <Alert severity="info" sx={{ mt: 1 }}>
            {words.code(invite.data.vantage)}
            <strong>{invite.data.code}</strong>
            {words.run}
            {invite.data.server ?? location.origin}
            {say.record.withCode(invite.data.code)}
            {!invite.data.server && say.publicURL}
          </Alert>
        )}
      </Box>
      {doomed && <Removal doomed={doomed} keep={() => setDoomed(null)} removed={() => setDoomed(null)} />}
    </Section>
  )
}
