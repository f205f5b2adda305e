import { Alert, Box, Button, Stack, TextField, Typography } from '@mui/material'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState, type ReactNode } from 'react'
import { api, Problem, type Session } from '../api'
import { say } from '../catalogue'
import { SecondFactor } from './SecondFactor'
import { signInByPasskey, usable } from './passkeys'
import { SessionContext } from './session'

const words = say.signIn

// SignedIn shows its children to whoever has signed in, and to others the sign-in, or the choice of a password where theirs works once only.
export function SignedIn({ children }: { children: ReactNode }) {
  const queries = useQueryClient()
  const session = useQuery({ queryKey: ['session'], queryFn: api.session, refetchInterval: false, staleTime: Infinity })
  const enter = (s: Session) => queries.setQueryData(['session'], s)
  const invitation = location.pathname === '/invitation' ? location.hash.slice(1) : ''
  if (invitation && !session.data) return <Join code={invitation} enter={enter} />
  if (session.isPending) return null
  if (session.data?.set_up_second_factor)
    return (
      <SessionContext value={session.data}>
        <Box component="main" sx={{ maxWidth: (t) => t.draw.column, mx: 'auto', p: 2 }}>
          <SecondFactor changed={() => void session.refetch()} />
        </Box>
      </SessionContext>
    )
  if (session.data && !session.data.choose_password) return <SessionContext value={session.data}>{children}</SessionContext>
  const away = session.error instanceof Problem && session.error.status !== 401 ? session.error.message : ''
  return session.data ? <ChoosePassword enter={enter} /> : <SignIn enter={enter} away={away} />
}

function Card({ title, children, onSubmit }: { title: string; children: ReactNode; onSubmit: () => void }) {
  return (
    <Box component="main" sx={{ minHeight: '100vh', display: 'grid', placeItems: 'center', p: 2 }}>
      <Box
        component="form"
        sx={{
          bgcolor: 'background.paper',
          border: (t) => t.rule.field,
          borderTop: (t) => t.rule.section,
          p: 3,
          width: '100%',
          maxWidth: 400,
        }}
        onSubmit={(e) => {
          e.preventDefault()
          onSubmit()
        }}
      >
        <Typography variant="code" component="div" sx={{ mb: 0.5 }}>
          {say.product}
        </Typography>
        <Typography variant="h2" component="h1" sx={{ mb: 2 }}>
          {title}
        </Typography>
        <Stack spacing={2}>{children}</Stack>
      </Box>
    </Box>
  )
}

function SignIn({ enter, away }: { enter: (s: Session) => void; away: string }) {
  const [name, setName] = useState('')
  const [password, setPassword] = useState('')
  const [code, setCode] = useState('')
  const sign = useMutation({ mutationFn: () => api.signIn(name, password, code || undefined), onSuccess: enter })
  const ways = useQuery({ queryKey: ['ways'], queryFn: api.ways, refetchInterval: false })
  const refused = new URLSearchParams(location.search).get('refused')
  const byPasskey = useMutation({ mutationFn: signInByPasskey, onSuccess: enter })
  const second = code !== '' || (sign.error instanceof Problem && sign.error.type.endsWith(':second-factor-needed'))
  return (
    <Card title={words.title} onSubmit={() => sign.mutate()}>
      {away && <Alert severity="warning">{away}</Alert>}
      {refused && !sign.error && <Alert severity="error">{refused}</Alert>}
      {sign.error && <Alert severity={second && !code ? 'info' : 'error'}>{sign.error.message}</Alert>}
      {byPasskey.error && <Alert severity="error">{byPasskey.error.message}</Alert>}
      <TextField
        label={words.name}
        name="name"
        autoComplete="username"
        autoFocus
        required
        value={name}
        onChange={(e) => setName(e.target.value)}
      />
      <TextField
        label={words.password}
        name="password"
        type="password"
        autoComplete="current-password"
        required
        value={password}
        onChange={(e) => setPassword(e.target.value)}
      />
      {second && (
        <TextField
          label={say.second.code}
          name="code"
          autoComplete="one-time-code"
          autoFocus
          value={code}
          onChange={(e) => setCode(e.target.value)}
        />
      )}
      <Button type="submit" variant="contained" disabled={sign.isPending}>
        {words.title}
      </Button>
      {ways.data?.provider && (
        <Button variant="outlined" href="/api/v1/session/provider">
          {say.second.provider(ways.data.provider)}
        </Button>
      )}
      {usable() && (
        <Button color="inherit" disabled={byPasskey.isPending} onClick={() => byPasskey.mutate()}>
          {say.second.passkey}
        </Button>
      )}
    </Card>
  )
}

// Fresh is the field for a password of one's own choice.
function Fresh({ value, set }: { value: string; set: (v: string) => void }) {
  return (
    <TextField
      label={words.fresh}
      name="new-password"
      type="password"
      autoComplete="new-password"
      autoFocus
      required
      value={value}
      onChange={(e) => set(e.target.value)}
      helperText={words.bounds}
    />
  )
}

// Join is what somebody sees who was invited.
function Join({ code, enter }: { code: string; enter: (s: Session) => void }) {
  const [password, setPassword] = useState('')
  const invited = useQuery({ queryKey: ['invitation', code], queryFn: () => api.invited(code), retry: false, refetchInterval: false })
  const join = useMutation({
    mutationFn: () => api.accept(code, password),
    onSuccess: (s) => {
      history.replaceState(null, '', '/')
      enter(s)
    },
  })
  const error = invited.error ?? join.error
  return (
    <Card title={say.people.welcome} onSubmit={() => join.mutate()}>
      {error && <Alert severity="error">{error.message}</Alert>}
      {invited.data && (
        <>
          <Typography>
            {say.people.join(invited.data.name, say.people.roles[invited.data.role], say.people.sees(invited.data.tags ?? []))}
          </Typography>
          <Fresh value={password} set={setPassword} />
          <Button type="submit" variant="contained" disabled={join.isPending}>
            {say.people.enter}
          </Button>
        </>
      )}
    </Card>
  )
}

function ChoosePassword({ enter }: { enter: (s: Session) => void }) {
  const [password, setPassword] = useState('')
  const choose = useMutation({ mutationFn: () => api.choosePassword(password), onSuccess: enter })
  return (
    <Card title={words.choose} onSubmit={() => choose.mutate()}>
      <Typography>{words.once}</Typography>
      {choose.error && <Alert severity="error">{choose.error.message}</Alert>}
      <Fresh value={password} set={setPassword} />
      <Button type="submit" variant="contained" disabled={choose.isPending}>
        {words.set}
      </Button>
    </Card>
  )
}
