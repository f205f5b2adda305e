import { Alert, Button, Checkbox, Dialog, DialogActions, DialogContent, DialogTitle, FormControlLabel, MenuItem, Stack, TextField } from '@mui/material'
import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api, Problem } from '../api'

// One field to fill in. With choices it is a list to pick from.
export interface Blank { name: string; label: string; help?: string; choices?: string[]; kind?: 'text' | 'number' | 'yes' }

type Value = string | number | boolean

// Entry is a form for one thing on the record. What the server finds wrong stands under the field that it is about.
export function Entry({ title, path, method, blanks, given, close, done }: {
  title: string; path: string; method: 'POST' | 'PATCH'; blanks: Blank[]; given: Record<string, Value>; close: () => void; done?: (saved: unknown) => void
}) {
  const queries = useQueryClient()
  const [values, setValues] = useState(given)
  const set = (name: string, v: Value) => setValues({ ...values, [name]: v })
  const save = useMutation({
    mutationFn: () => api.send(method, path, values),
    onSuccess: async (saved) => {
      await queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'session' })
      close()
      done?.(saved)
    },
  })
  const flaws = save.error instanceof Problem ? save.error.errors : []
  // The server names a range by its ends; the form has one field for it.
  const flaw = (name: string) => flaws.filter((f) => f.field === name || f.field.startsWith(name + '_')).map((f) => f.detail).join('; ')
  const placed = blanks.some((b) => flaw(b.name))
  return (
    <Dialog open onClose={close} fullWidth maxWidth="xs">
      <form noValidate onSubmit={(e) => { e.preventDefault(); save.mutate() }}>
        <DialogTitle variant="h2">{title}</DialogTitle>
        <DialogContent>
          <Stack spacing={2} sx={{ pt: 1 }}>
            {save.error && !placed && <Alert severity="error">{save.error.message}</Alert>}
            {blanks.map((b) => b.kind === 'yes' ? (
              <FormControlLabel key={b.name} label={b.label} control={<Checkbox checked={Boolean(values[b.name])} onChange={(e) => set(b.name, e.target.checked)} />} />
            ) : (
              <TextField key={b.name} name={b.name} label={b.label} value={values[b.name] ?? ''} select={Boolean(b.choices)} type={b.kind === 'number' ? 'number' : 'text'}
                error={Boolean(flaw(b.name))} helperText={flaw(b.name) || b.help}
                onChange={(e) => set(b.name, b.kind === 'number' ? Number(e.target.value) : e.target.value)}>
                {b.choices?.map((c) => <MenuItem key={c} value={c}>{c || 'the preferred link'}</MenuItem>)}
              </TextField>
            ))}
          </Stack>
        </DialogContent>
        <DialogActions sx={{ px: 3, pb: 2 }}>
          <Button color="inherit" onClick={close}>Cancel</Button>
          <Button type="submit" variant="contained" disabled={save.isPending}>Save</Button>
        </DialogActions>
      </form>
    </Dialog>
  )
}
