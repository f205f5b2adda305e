import { Alert, Button, Checkbox, FormControlLabel, Stack, TextField, Typography } from '@mui/material'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api, at, Problem, type Key } from '../api'
import { say } from '../catalogue'
import { newKey } from '../forms/people'
import { Ago } from '../parts/Ago'
import { Entry } from '../parts/Entry'
import { Part, Removal, type Doomed, type Form } from '../parts/Part'
import { Secret, SecondFactor } from '../parts/SecondFactor'
import { Section, Trouble } from '../parts/Sheet'
import { Titled } from '../parts/Titled'
import { useSession } from '../parts/session'

const words = say.account

const flawOf = (error: Error | null, field: string) =>
  error instanceof Problem
    ? error.errors
        .filter((f) => f.field === field)
        .map((f) => f.detail)
        .join('; ')
    : ''

function Password() {
  const queries = useQueryClient()
  const [old, setOld] = useState('')
  const [fresh, setFresh] = useState('')
  const [keys, setKeys] = useState(false)
  const change = useMutation({
    mutationFn: () => api.replacePassword({ old, password: fresh, end_keys: keys }),
    onSuccess: (s) => {
      queries.setQueryData(['session'], s)
      setOld('')
      setFresh('')
      void queries.invalidateQueries({ queryKey: ['account'] })
    },
  })
  const placed = flawOf(change.error, 'old') || flawOf(change.error, 'password')
  return (
    <Section title={words.password} id="password">
      <Stack
        component="form"
        spacing={2}
        sx={{ px: 2, pb: 2, maxWidth: 400 }}
        onSubmit={(e) => {
          e.preventDefault()
          change.mutate()
        }}
      >
        {change.error && !placed && <Alert severity="error">{change.error.message}</Alert>}
        {change.isSuccess && <Alert severity="success">{words.changed}</Alert>}
        <Secret label={words.old} value={old} set={setOld} error={flawOf(change.error, 'old')} />
        <TextField
          label={words.fresh}
          type="password"
          autoComplete="new-password"
          value={fresh}
          error={Boolean(flawOf(change.error, 'password'))}
          helperText={flawOf(change.error, 'password') || say.signIn.bounds}
          onChange={(e) => setFresh(e.target.value)}
        />
        <FormControlLabel label={words.keys} control={<Checkbox checked={keys} onChange={(e) => setKeys(e.target.checked)} />} />
        <Button type="submit" variant="contained" disabled={change.isPending} sx={{ alignSelf: 'flex-start' }}>
          {words.change}
        </Button>
      </Stack>
    </Section>
  )
}

function Sessions() {
  const queries = useQueryClient()
  const list = useQuery({ queryKey: ['account', 'sessions'], queryFn: api.sessions })
  const end = useMutation({ mutationFn: api.endSession, onSuccess: () => queries.invalidateQueries({ queryKey: ['account'] }) })
  return (
    <Section title={words.sessions} id="sessions">
      <Trouble error={list.error ?? end.error} />
      {list.data?.map((s) => (
        <Stack
          key={s.id}
          data-session={s.id}
          direction="row"
          sx={{ borderTop: (t) => t.rule.hair, px: 2, py: 0.5, columnGap: 2, alignItems: 'center', flexWrap: 'wrap' }}
        >
          <Typography sx={{ fontWeight: 600 }}>{words.from(s.address)}</Typography>
          <Typography variant="body2" sx={{ flex: 1, color: 'text.secondary', overflowWrap: 'anywhere' }}>
            {words.lastUsed}
            <Ago at={s.seen} />, {s.program}
          </Typography>
          {s.current ? (
            <Typography variant="label">{words.here}</Typography>
          ) : (
            <Button size="small" color="error" onClick={() => end.mutate(s.id)} aria-label={`${words.end} ${s.address} ${s.id}`}>
              {words.end}
            </Button>
          )}
        </Stack>
      ))}
    </Section>
  )
}

// AccountPage is what concerns oneself: password, second factor, sessions, keys.
export function AccountPage() {
  const session = useSession()
  const keys = useQuery({ queryKey: ['account', 'keys'], queryFn: api.keys })
  const [form, setForm] = useState<Form>()
  const [doomed, setDoomed] = useState<Doomed>()
  const [made, setMade] = useState<Key>()
  const own = (keys.data ?? []).filter((k) => k.holder === session.name && !k.revoked && k.scope === 'person')
  return (
    <>
      <Titled of={words.title(session.name)} />
      <Section title={words.title(session.name)} id="account">
        <Typography sx={{ px: 2, pb: 1 }}>{words.is(say.people.roles[session.role], say.people.sees(session.tags))}</Typography>
      </Section>
      <Password />
      <SecondFactor />
      <Sessions />
      <Section title={words.ownKeys} id="keys">
        <Trouble error={keys.error} />
        {made && (
          <Alert severity="warning" onClose={() => setMade(undefined)} sx={{ mx: 2, mb: 1, overflowWrap: 'anywhere' }}>
            {words.keyOnce(made.label)}
            <Typography variant="mono">{made.secret}</Typography>
          </Alert>
        )}
        <Part
          own
          title={own.length === 0 ? words.noKeys : ''}
          add={newKey(session.role === 'viewer' ? 'read' : 'edit')}
          open={setForm}
          remove={setDoomed}
          lines={own.map((k) => ({
            key: k.label + k.id,
            words: k.label,
            detail: (
              <>
                {words.may}
                {k.may},{' '}
                {k.used ? (
                  <>
                    {words.lastUsed}
                    <Ago at={k.used} />
                  </>
                ) : (
                  words.unused
                )}
              </>
            ),
            path: at('keys', String(k.id)),
            warning: words.revoke,
          }))}
        />
      </Section>
      {form && <Entry key={form.title} {...form} close={() => setForm(undefined)} done={(saved) => setMade(saved as Key)} />}
      {doomed && <Removal doomed={doomed} keep={() => setDoomed(undefined)} removed={() => setDoomed(undefined)} />}
    </>
  )
}
