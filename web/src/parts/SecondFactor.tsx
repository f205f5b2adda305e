import { Alert, Box, Button, Dialog, DialogActions, DialogContent, DialogTitle, Stack, TextField, Typography } from '@mui/material'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState, type ReactNode } from 'react'
import { api, type TOTPSecret } from '../api'
import { say } from '../catalogue'
import { exact } from '../words'
import { addPasskey, usable } from './passkeys'
import { Section, Trouble } from './Sheet'

const words = say.account

// Secret is a field for one's own password.
export function Secret({ label, value, set, error }: { label: string; value: string; set: (v: string) => void; error?: string }) {
  return (
    <TextField
      label={label}
      type="password"
      autoComplete="current-password"
      value={value}
      error={Boolean(error)}
      helperText={error}
      onChange={(e) => set(e.target.value)}
    />
  )
}

// Confirmed asks for the password before something that a session which was left open may not do.
function Confirmed({
  title,
  act,
  close,
  children,
}: {
  title: string
  act: (password: string) => Promise<void>
  close: () => void
  children?: ReactNode
}) {
  const [password, setPassword] = useState('')
  const go = useMutation({ mutationFn: () => act(password), onSuccess: close })
  return (
    <Dialog open onClose={close} fullWidth maxWidth="xs">
      <form
        onSubmit={(e) => {
          e.preventDefault()
          go.mutate()
        }}
      >
        <DialogTitle variant="h2">{title}</DialogTitle>
        <DialogContent>
          <Stack spacing={2} sx={{ pt: 1 }}>
            {go.error && <Alert severity="error">{go.error.message}</Alert>}
            {children}
            <Secret label={words.confirm} value={password} set={setPassword} />
          </Stack>
        </DialogContent>
        <DialogActions>
          <Button color="inherit" onClick={close}>
            {say.form.cancel}
          </Button>
          <Button type="submit" variant="contained" disabled={go.isPending}>
            {words.go}
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  )
}

function Authenticator({ made, close, kept }: { made: TOTPSecret; close: () => void; kept: (codes: string[]) => void }) {
  const [code, setCode] = useState('')
  const { secret, qr } = made
  return (
    <Confirmed title={words.setUp} close={close} act={async (password) => kept((await api.keepTOTP({ secret, code, password })).codes)}>
      <Typography>{words.scan}</Typography>
      <Box component="img" src={qr} alt={words.secret} sx={{ width: 180, height: 180, alignSelf: 'center' }} />
      <Typography variant="mono" data-secret sx={{ overflowWrap: 'anywhere' }}>
        {secret}
      </Typography>
      <TextField label={words.code} autoComplete="one-time-code" value={code} onChange={(e) => setCode(e.target.value)} />
    </Confirmed>
  )
}

type Asked = 'totp' | 'drop' | 'codes' | 'passkey' | { remove: number }

// SecondFactor sets up what is asked for beside the password.
export function SecondFactor({ changed }: { changed?: () => void }) {
  const queries = useQueryClient()
  const has = useQuery({ queryKey: ['account', 'second'], queryFn: api.seconds })
  const [asked, ask] = useState<Asked>()
  const made = useMutation({ mutationFn: api.newTOTP, onSuccess: () => ask('totp') })
  const [codes, setCodes] = useState<string[]>([])
  const [label, setLabel] = useState('')
  const over = () => {
    ask(undefined)
    void queries.invalidateQueries({ queryKey: ['account'] })
  }
  const none = has.data && !has.data.totp && has.data.passkeys.length === 0
  return (
    <Section title={words.second} id="second">
      <Box sx={{ px: 2, pb: 2 }}>
        <Trouble error={has.error ?? made.error} />
        {codes.length > 0 && (
          <Alert severity="warning" sx={{ mb: 2 }} onClose={() => (setCodes([]), changed?.())}>
            {words.codesOnce}
            <Box data-codes sx={{ columns: 2 }}>
              {codes.map((c) => (
                <Typography key={c} variant="mono" component="div">
                  {c}
                </Typography>
              ))}
            </Box>
          </Alert>
        )}
        {none && <Typography sx={{ mb: 1 }}>{has.data?.required ? words.required : words.none}</Typography>}
        {has.data?.totp && <Typography>{words.totp}</Typography>}
        {has.data?.passkeys.map((p) => (
          <Stack key={p.id} data-passkey={p.label} direction="row" sx={{ alignItems: 'center', gap: 2 }}>
            <Typography sx={{ fontWeight: 600 }}>{p.label}</Typography>
            <Typography sx={{ flex: 1 }}>{p.used ? words.used(exact(p.used)) : words.unused}</Typography>
            <Button size="small" color="error" onClick={() => ask({ remove: p.id })} aria-label={`${say.form.remove} ${p.label}`}>
              {say.form.remove}
            </Button>
          </Stack>
        ))}
        {!none && has.data && <Typography>{words.codes(has.data.recovery_codes)}</Typography>}
        <Stack direction="row" sx={{ mt: 1, gap: 1, flexWrap: 'wrap' }}>
          {has.data && !has.data.totp && (
            <Button variant="outlined" onClick={() => made.mutate()}>
              {words.setUp}
            </Button>
          )}
          {usable() && (
            <Button variant="outlined" onClick={() => ask('passkey')}>
              {words.passkey}
            </Button>
          )}
          {!none && (
            <Button color="inherit" onClick={() => ask('codes')}>
              {words.newCodes}
            </Button>
          )}
          {has.data?.totp && (
            <Button color="inherit" onClick={() => ask('drop')}>
              {words.drop}
            </Button>
          )}
        </Stack>
      </Box>
      {asked === 'totp' && made.data && <Authenticator made={made.data} close={over} kept={setCodes} />}
      {asked === 'drop' && <Confirmed title={words.drop} act={api.dropTOTP} close={over} />}
      {asked === 'codes' && (
        <Confirmed title={words.newCodes} act={async (password) => setCodes((await api.newCodes(password)).codes)} close={over} />
      )}
      {asked === 'passkey' && (
        <Confirmed title={words.passkey} close={over} act={async (password) => setCodes((await addPasskey(password, label)).codes)}>
          <TextField label={words.passkeyLabel} value={label} onChange={(e) => setLabel(e.target.value)} />
        </Confirmed>
      )}
      {typeof asked === 'object' && (
        <Confirmed
          title={say.form.removal(words.passkeyLabel)}
          act={(password) => api.removePasskey(asked.remove, password)}
          close={over}
        />
      )}
    </Section>
  )
}
