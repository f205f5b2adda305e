import { Alert, Button, Snackbar } from '@mui/material'
import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState, type ReactNode } from 'react'
import { api } from '../api'
import { say } from '../catalogue'
import { UndoContext } from './undo'

// shownFor is how long it is offered, in milliseconds. The audit page offers it for 30 days.
const shownFor = 20_000

// Undoing offers to bring back what was removed last, on whatever page one is.
export function Undoing({ children }: { children: ReactNode }) {
  const queries = useQueryClient()
  const [last, setLast] = useState<{ key: string; kind: string }>()
  const back = useMutation({
    mutationFn: async ({ key, kind }: { key: string; kind: string }) => {
      const name = key.split(' ').pop()
      const newest = (await api.removed()).find((r) => r.kind === kind && r.name === name)
      if (newest) await api.restore(newest.id)
      await queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'session' })
    },
  })
  return (
    <UndoContext.Provider
      value={(key, kind) => {
        back.reset()
        setLast({ key, kind })
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
