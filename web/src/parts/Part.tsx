import { Alert, Box, Button, Dialog, DialogActions, DialogContent, DialogTitle, Stack, Typography } from '@mui/material'
import { useMutation, useQueryClient } from '@tanstack/react-query'
import type { ReactNode } from 'react'
import { api } from '../api'
import { say } from '../catalogue'
import type { Blank, Value } from '../forms/blank'
import type { Removed } from '../documents'
import { useSession } from './session'
import { useUndo } from './undo'

const words = say.form

// Form is what is filled in for one thing on the record, and where it is sent.
export type Form = {
  title: string
  path: string
  method: 'POST' | 'PATCH' | 'PUT'
  blanks: Blank[]
  given: Record<string, Value>
  tag?: string
  removal?: Doomed // how what it edits is removed
}

// Doomed is what somebody asked to remove. Kind is set where it can be brought back.
export type Doomed = { key: string; path: string; words?: string; tag?: string; kind?: Removed['kind'] }

export interface Line {
  key: string
  words: ReactNode
  tone?: string
  detail: ReactNode
  edit?: Form
  path?: string
  tag?: string
  kind?: Doomed['kind']
  warning?: string // what removing it means
  extra?: { word: string; act: () => void }[]
}

const doomed = (l: Line): Doomed | undefined =>
  l.path ? { key: l.key, path: l.path, tag: l.tag, words: l.warning, kind: l.kind } : undefined

// Part is one kind of things on the record: a line each, and a button to add another.
export function Part({
  title,
  lines,
  add,
  open,
  remove,
  own = false,
  aside,
}: {
  title: string
  aside?: ReactNode
  lines: Line[]
  add?: Form
  open: (f: Form) => void
  remove?: (d: Doomed) => void // of lines that have nothing to edit
  own?: boolean // it is one's own
}) {
  const may = useSession().role !== 'viewer' || own // what somebody may not do is not offered
  return (
    <Box sx={{ borderTop: (t) => t.rule.field, px: 2, py: 1 }}>
      <Stack direction="row" sx={{ alignItems: 'center' }}>
        <Typography variant="label" sx={{ flex: 1 }}>
          {title}
        </Typography>
        {aside}
        {may && add && (
          <Button size="small" color="inherit" onClick={() => open(add)}>
            {add.title}
          </Button>
        )}
      </Stack>
      {lines.map((l) => (
        <Stack key={l.key} data-line={l.key} direction="row" sx={{ alignItems: 'center', columnGap: 2, flexWrap: 'wrap' }}>
          <Typography sx={{ fontWeight: 600, color: l.tone, minWidth: { xs: 0, md: '9rem' } }}>{l.words}</Typography>
          <Typography variant="mono" sx={{ flex: 1, minWidth: { xs: '100%', md: 0 } }}>
            {l.detail}
          </Typography>
          {l.extra?.map((x) => (
            <Button key={x.word} size="small" onClick={x.act} aria-label={`${x.word}: ${l.key}`}>
              {x.word}
            </Button>
          ))}
          {may && l.edit && (
            <Button size="small" onClick={() => open({ ...l.edit!, removal: doomed(l) })} aria-label={`${words.edit} ${l.key}`}>
              {words.edit}
            </Button>
          )}
          {may && !l.edit && remove && l.path && (
            <Button size="small" color="inherit" onClick={() => remove(doomed(l)!)} aria-label={`${words.remove} ${l.key}`}>
              {words.remove}
            </Button>
          )}
        </Stack>
      ))}
    </Box>
  )
}

// Removal asks once more before something is removed.
export function Removal({ doomed, keep, removed }: { doomed: Doomed; keep: () => void; removed: () => void }) {
  const queries = useQueryClient()
  const undo = useUndo()
  const remove = useMutation({
    mutationFn: () => api.remove(doomed.path, doomed.tag),
    onSuccess: async () => {
      removed()
      if (doomed.kind) undo({ key: doomed.key, kind: doomed.kind, path: doomed.path })
      await queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'session' })
    },
  })
  return (
    <Dialog open onClose={keep}>
      <DialogTitle variant="h2">{words.removal(doomed.key)}</DialogTitle>
      <DialogContent>
        {remove.error && <Alert severity="error">{remove.error.message}</Alert>}
        <Typography>{doomed.words ?? (doomed.kind ? words.later : words.forGood)}</Typography>
      </DialogContent>
      <DialogActions>
        <Button color="inherit" onClick={keep}>
          {words.keep}
        </Button>
        <Button color="error" variant="contained" disabled={remove.isPending} onClick={() => remove.mutate()}>
          {words.remove}
        </Button>
      </DialogActions>
    </Dialog>
  )
}
