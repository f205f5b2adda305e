import { Dialog, DialogContent, DialogTitle, Stack, Typography } from '@mui/material'
import { useEffect, useState } from 'react'
import { useNavigate } from 'react-router'
import { say } from '../catalogue'

const words = say.keys

const typing = (e: KeyboardEvent) =>
  e.target instanceof HTMLInputElement || e.target instanceof HTMLTextAreaElement || document.querySelector('[role="dialog"]') !== null

// step moves the focus to the next line of a list, or the one before.
function step(by: number): boolean {
  const links = [...document.querySelectorAll<HTMLElement>('[data-site] a, [data-fault] a[href^="/sites/"]')]
  const now = links.findIndex((l) => l === document.activeElement)
  const next = links[now < 0 ? (by > 0 ? 0 : links.length - 1) : now + by]
  next?.focus()
  return next !== undefined
}

// Keys are what the keyboard does on every page, and the list of it.
export function Keys() {
  const [open, setOpen] = useState(false)
  const go = useNavigate()
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      const search = document.querySelector<HTMLInputElement>('input[type="search"]')
      if (e.key === 'ArrowDown' && e.target === search && step(1)) return e.preventDefault()
      if (typing(e) || e.ctrlKey || e.metaKey || e.altKey) return
      if (e.key === '/') {
        e.preventDefault()
        if (search) search.focus()
        else go('/#find')
      } else if (e.key === '?') setOpen(true)
      else if ((e.key === 'ArrowDown' && step(1)) || (e.key === 'ArrowUp' && step(-1))) e.preventDefault()
      else if (e.key === 'h') go('/')
    }
    addEventListener('keydown', key)
    return () => removeEventListener('keydown', key)
  }, [go])
  if (!open) return null
  return (
    <Dialog open onClose={() => setOpen(false)} fullWidth maxWidth="xs">
      <DialogTitle variant="h2">{words.title}</DialogTitle>
      <DialogContent>
        {words.list.map(([key, does]) => (
          <Stack key={key} direction="row" sx={{ borderTop: (t) => t.rule.hair, py: 0.5, gap: 2 }}>
            <Typography variant="mono" sx={{ minWidth: (t) => t.draw.word }}>
              {key}
            </Typography>
            <Typography>{does}</Typography>
          </Stack>
        ))}
      </DialogContent>
    </Dialog>
  )
}
