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
import { Ago } from './Ago'

// One field to fill in. With choices it is a list to pick from; a list is typed with commas; a name is checked as it is typed.
// What is seldom filled in is out of sight until it is asked for.
export interface Blank {
  name: string
  label: string
  help?: string
  seldom?: boolean
  choices?: string[]
  none?: string
  kind?: 'text' | 'number' | 'yes' | 'list' | 'time' | 'name' | 'secret' | 'pairs'
}

export type Value = string | number | boolean | string[] | Record<string, string>

const never = '0001-01-01T00:00:00Z'

// sent is a field's value as the server takes it.
function sent(b: Blank, v: Value): Value {
  if (b.kind === 'list' && typeof v === 'string') return v.split(/[\s,]+/).filter(Boolean)
  if (b.kind === 'pairs') {
    const none = Object.fromEntries((b.choices ?? []).map((name) => [name, ''])) // what is left out is taken back
    const given = String(v)
      .split(',')
      .map((one) => one.trim())
      .filter(Boolean)
      .map((one) => [one.split('=')[0].trim(), one.split('=').slice(1).join('=').trim()])
    return { ...none, ...Object.fromEntries(given) }
  }
  if (b.kind === 'time') return v ? new Date(String(v)).toISOString() : never
  return v
}

// typed is a value as it stands in its field.
function typed(b: Blank, v: Value | undefined): string {
  if (Array.isArray(v)) return v.join(', ')
  if (v && typeof v === 'object')
    return Object.entries(v)
      .map(([name, value]) => `${name}=${value}`)
      .join(', ')
  if (b.kind === 'time' && v) {
    const at = new Date(String(v))
    return at.getFullYear() < 2000 ? '' : new Date(at.getTime() - at.getTimezoneOffset() * 60000).toISOString().slice(0, 16)
  }
  return String(v ?? '')
}

const shownAs = (b: Blank | undefined, v: unknown) => (b ? typed(b, v as Value) : String(v ?? '')) || 'nothing'

// Meanwhile says who changed what since a form was opened, and asks whose word counts.
function Meanwhile({ edits, blanks, theirs, mine }: { edits: Edit[]; blanks: Blank[]; theirs: () => void; mine: () => void }) {
  return (
    <Alert
      severity="warning"
      data-meanwhile
      action={
        <>
          <Button color="inherit" size="small" onClick={theirs}>
            Take theirs
          </Button>
          <Button color="inherit" size="small" onClick={mine}>
            Save mine
          </Button>
        </>
      }
    >
      {edits.map((e) => (
        <div key={e.revision}>
          {e.person} edited this <Ago at={e.at} />
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
      {edits.length === 0 && 'It has been replaced since you opened this form.'}
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
  close,
  done,
}: {
  title: string
  path: string
  method: 'POST' | 'PATCH'
  blanks: Blank[]
  given: Record<string, Value>
  tag?: string
  close: () => void
  done?: (saved: unknown) => void
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
  // The server names a range by its ends; the form has one field for it.
  const flaw = (name: string) =>
    flaws
      .filter((f) => f.field === name || f.field.startsWith(name + '_') || f.field.startsWith(name + '.'))
      .map((f) => f.detail)
      .join('; ')
  const placed = blanks.some((b) => flaw(b.name))
  const [all, setAll] = useState(false)
  const shown = blanks.filter((b) => all || !b.seldom || flaw(b.name))
  const words = (b: Blank) => flaw(b.name) || (b.kind === 'name' && check.data && asked ? check.data.detail : b.help)
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
                        {c || b.none || 'the preferred link'}
                      </MenuItem>
                    ))}
                </TextField>
              ),
            )}
            {shown.length < blanks.length && (
              <Button color="inherit" sx={{ alignSelf: 'flex-start' }} onClick={() => setAll(true)}>
                Show {blanks.length - shown.length} more {blanks.length - shown.length === 1 ? 'field' : 'fields'}
              </Button>
            )}
          </Stack>
        </DialogContent>
        <DialogActions sx={{ px: 3, pb: 2 }}>
          <Button color="inherit" onClick={close}>
            Cancel
          </Button>
          <Button type="submit" variant="contained" disabled={save.isPending}>
            Save
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  )
}
