import {
  Alert,
  Button,
  Checkbox,
  Dialog,
  DialogActions,
  DialogContent,
  DialogTitle,
  FormControlLabel,
  MenuItem,
  Stack,
  TextField,
} from '@mui/material'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useDeferredValue, useState } from 'react'
import { api, Problem, type Edit } from '../api'
import { say } from '../catalogue'
import { sent, shownAs, typed, type Blank, type Value } from '../forms/blank'
import { Ago } from './Ago'
import { Removal, type Doomed } from './Part'

// Meanwhile says who changed what since a form was opened, and asks whose word counts.
function Meanwhile({ edits, blanks, theirs, mine }: { edits: Edit[]; blanks: Blank[]; theirs: () => void; mine: () => void }) {
  return (
    <Alert
      severity="warning"
      data-meanwhile
      action={
        <>
          <Button color="inherit" size="small" onClick={theirs}>
            {say.form.theirs}
          </Button>
          <Button color="inherit" size="small" onClick={mine}>
            {say.form.mine}
          </Button>
        </>
      }
    >
      {edits.map((e) => (
        <div key={e.revision}>
          {say.form.edited(e.person)}
          <Ago at={e.at} />
          {e.changes.length === 0 && '.'}
          {e.changes.map((c) => {
            const b = blanks.find((b) => b.name === c.field)
            return (
              <div key={c.field}>
                {b?.label ?? c.field}: {shownAs(b, c.before)} → <strong>{shownAs(b, c.after)}</strong>
              </div>
            )
          })}
        </div>
      ))}
      {edits.length === 0 && say.form.replaced}
    </Alert>
  )
}

// Entry is a form for one thing on the record. What the server finds wrong stands under the field that it is about. Where somebody
// else edited the same thing since it was read, nothing is saved before it is said whose word counts.
export function Entry({
  title,
  path,
  method,
  blanks,
  given,
  tag: read,
  removal,
  close,
  done,
  gone,
}: {
  title: string
  path: string
  method: 'POST' | 'PATCH' | 'PUT'
  blanks: Blank[]
  given: Record<string, Value>
  tag?: string
  removal?: Doomed
  close: () => void
  done?: (saved: unknown) => void
  gone?: () => void // it was removed
}) {
  const [tag, setTag] = useState(read)
  const queries = useQueryClient()
  const [values, setValues] = useState<Record<string, Value>>(() =>
    Object.fromEntries(
      Object.entries(given).map(([k, v]) => {
        const b = blanks.find((b) => b.name === k)
        return [k, b && (b.kind === 'list' || b.kind === 'time' || b.kind === 'pairs') ? typed(b, v) : v]
      }),
    ),
  )
  const set = (name: string, v: Value) => setValues({ ...values, [name]: v })
  const save = useMutation({
    mutationFn: (over?: string) =>
      api.send(
        method,
        path,
        Object.fromEntries(
          Object.entries(values).map(([k, v]) => {
            const b = blanks.find((b) => b.name === k)
            return [k, b ? sent(b, v) : v]
          }),
        ),
        over ?? tag,
      ),
    onSuccess: async (saved) => {
      await queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'session' })
      close()
      done?.(saved)
    },
  })
  const asked = useDeferredValue(String(blanks.some((b) => b.kind === 'name') ? (values.name ?? '') : ''))
  const check = useQuery({ queryKey: ['name', asked], queryFn: () => api.checkName(asked), enabled: asked !== '', retry: false })
  const clash = save.error instanceof Problem && save.error.status === 412 ? save.error : undefined
  const takeTheirs = () => {
    if (!clash) return
    const next = { ...values }
    for (const e of clash.meanwhile) {
      for (const c of e.changes) {
        const b = blanks.find((b) => b.name === c.field)
        if (b) next[b.name] = b.kind === 'list' || b.kind === 'time' || b.kind === 'pairs' ? typed(b, c.after as Value) : (c.after as Value)
      }
    }
    setValues(next)
    setTag(clash.current)
    save.reset()
  }
  const flaws = save.error instanceof Problem ? save.error.errors : []
  const flaw = (name: string) =>
    flaws
      .filter((f) => f.field === name || f.field.startsWith(name + '.'))
      .map((f) => f.detail)
      .join('; ')
  const placed = blanks.some((b) => flaw(b.name))
  const [all, setAll] = useState(false)
  const shown = blanks.filter((b) => all || !b.seldom || flaw(b.name))
  const [removing, remove] = useState(false)
  const words = (b: Blank) => flaw(b.name) || (b.kind === 'name' && check.data && asked ? check.data.detail : b.help)
  if (removal && removing) {
    return (
      <Removal
        doomed={removal}
        keep={() => remove(false)}
        removed={() => {
          close()
          gone?.()
        }}
      />
    )
  }
  return (
    <Dialog open onClose={close} fullWidth maxWidth="xs">
      <form
        noValidate
        onSubmit={(e) => {
          e.preventDefault()
          save.mutate(undefined)
        }}
      >
        <DialogTitle variant="h2">{title}</DialogTitle>
        <DialogContent>
          <Stack spacing={2} sx={{ pt: 1 }}>
            {clash && (
              <Meanwhile
                edits={clash.meanwhile}
                blanks={blanks}
                theirs={takeTheirs}
                mine={() => {
                  setTag(clash.current)
                  save.mutate(clash.current)
                }}
              />
            )}
            {save.error && !clash && !placed && <Alert severity="error">{save.error.message}</Alert>}
            {shown.map((b) =>
              b.kind === 'yes' ? (
                <FormControlLabel
                  key={b.name}
                  label={b.label}
                  control={<Checkbox checked={Boolean(values[b.name])} onChange={(e) => set(b.name, e.target.checked)} />}
                />
              ) : (
                <TextField
                  key={b.name}
                  name={b.name}
                  label={b.label}
                  value={b.kind === 'time' ? (values[b.name] ?? '') : typed(b, values[b.name])}
                  select={Boolean(b.choices) && b.kind !== 'pairs'}
                  type={b.kind === 'number' ? 'number' : b.kind === 'time' ? 'datetime-local' : b.kind === 'secret' ? 'password' : 'text'}
                  slotProps={b.kind === 'time' ? { inputLabel: { shrink: true } } : undefined}
                  error={Boolean(flaw(b.name)) || (b.kind === 'name' && check.data?.free === false)}
                  helperText={words(b)}
                  onChange={(e) => set(b.name, b.kind === 'number' ? Number(e.target.value) : e.target.value)}
                >
                  {b.kind !== 'pairs' &&
                    b.choices?.map((c) => (
                      <MenuItem key={c} value={c}>
                        {c || b.none || say.form.preferred}
                      </MenuItem>
                    ))}
                </TextField>
              ),
            )}
            {shown.length < blanks.length && (
              <Button color="inherit" sx={{ alignSelf: 'flex-start' }} onClick={() => setAll(true)}>
                {say.form.more(blanks.length - shown.length)}
              </Button>
            )}
          </Stack>
        </DialogContent>
        <DialogActions sx={{ px: 3, pb: 2 }}>
          {removal && (
            <Button color="inherit" sx={{ mr: 'auto' }} onClick={() => remove(true)}>
              {say.form.remove}
            </Button>
          )}
          <Button color="inherit" onClick={close}>
            {say.form.cancel}
          </Button>
          <Button type="submit" variant="contained" disabled={save.isPending}>
            {say.form.save}
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  )
}
