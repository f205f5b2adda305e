import { Alert, Button, Snackbar } from '@mui/material'
import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState, type ReactNode } from 'react'
import { api } from '../api'
import { say } from '../catalogue'
import { UndoContext, type Gone } from './undo'

// shownFor is how long it is offered, in milliseconds. The audit page offers it for 30 days.
const shownFor = 20_000

// Undoing offers to bring back what was removed last, on whatever page one is.
export function Undoing({ children }: { children: ReactNode }) {
  const queries = useQueryClient()
  const [last, setLast] = useState<Gone>()
  const back = useMutation({
    mutationFn: async ({ key, kind, path }: Gone) => {
      const name = key.split(' ').pop()
      const [, list, site] = path.split('/').map(decodeURIComponent)
      const ours = (await api.removed()).find((r) => r.kind === kind && r.name === name && (list !== 'sites' || r.site === site))
      if (!ours) throw new Error(say.form.goneForGood(key))
      await api.restore(ours.id)
      await queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'session' })
    },
  })
  return (
    <UndoContext.Provider
      value={(of) => {
        back.reset()
        setLast(of)
      }}
    >
      {children}
      <Snackbar open={last !== undefined} autoHideDuration={shownFor} onClose={(_, why) => why === 'timeout' && setLast(undefined)}>
        <Alert
          severity={back.error ? 'error' : 'info'}
          data-undo
          onClose={() => setLast(undefined)}
          action={
            last && back.isIdle ? (
              <Button color="inherit" size="small" onClick={() => back.mutate(last)}>
                {say.form.back}
              </Button>
            ) : undefined
          }
        >
          {back.error ? back.error.message : last && (back.isSuccess ? say.form.isBack(last.key) : say.form.undo(last.key))}
        </Alert>
      </Snackbar>
    </UndoContext.Provider>
  )
}
