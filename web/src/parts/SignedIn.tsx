import { Alert, Box, Button, Stack, TextField, Typography } from '@mui/material'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { createContext, useContext, useState, type ReactNode } from 'react'
import { api, Problem, type Session } from '../api'
import { say } from '../catalogue'

const SessionContext = createContext<Session | null>(null)

export const useSession = () => useContext(SessionContext)!

const words = say.signIn

// SignedIn shows its children to whoever has signed in, and to others the sign-in, or the choice of a password where theirs works once only.
export function SignedIn({ children }: { children: ReactNode }) {
  const queries = useQueryClient()
  const session = useQuery({ queryKey: ['session'], queryFn: api.session, refetchInterval: false, staleTime: Infinity })
  const enter = (s: Session) => queries.setQueryData(['session'], s)
  if (session.isPending) return null
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
  const sign = useMutation({ mutationFn: () => api.signIn(name, password), onSuccess: enter })
  return (
    <Card title={words.title} onSubmit={() => sign.mutate()}>
      {away && <Alert severity="warning">{away}</Alert>}
      {sign.error && <Alert severity="error">{sign.error.message}</Alert>}
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
      <Button type="submit" variant="contained" disabled={sign.isPending}>
        {words.title}
      </Button>
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
      <TextField
        label={words.fresh}
        name="new-password"
        type="password"
        autoComplete="new-password"
        autoFocus
        required
        value={password}
        onChange={(e) => setPassword(e.target.value)}
        helperText={words.bounds}
      />
      <Button type="submit" variant="contained" disabled={choose.isPending}>
        {words.set}
      </Button>
    </Card>
  )
}
