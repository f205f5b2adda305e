import { Alert, Box, Button, LinearProgress, Stack, TextField, Typography } from '@mui/material'
import { useQueryClient } from '@tanstack/react-query'
import { useRef, useState } from 'react'
import { api, at, tagOf, type Site } from '../api'
import { say } from '../catalogue'

const words = say.bulk

// retagged returns a site's tags with one more, or one less.
const retagged = (s: Site, tag: string, on: boolean) =>
  on ? [...new Set([...(s.tags ?? []), tag])] : (s.tags ?? []).filter((t) => t !== tag)

// Bulk does one thing to several sites, one after the other; it says how far it is, can be stopped, and says what went wrong where.
export function Bulk({ chosen, all, none }: { chosen: string[]; all: () => void; none: () => void }) {
  const queries = useQueryClient()
  const [tag, setTag] = useState('')
  const [minutes, setMinutes] = useState(60)
  const [reason, setReason] = useState('')
  const [done, setDone] = useState<{ n: number; of: number; wrong: string[]; ended: boolean }>()
  const stop = useRef(false)
  const each = async (act: (code: string) => Promise<unknown>) => {
    stop.current = false
    const wrong: string[] = []
    let n = 0
    setDone({ n, of: chosen.length, wrong, ended: false })
    for (const code of chosen) {
      if (stop.current) break
      await act(code).catch((e: Error) => wrong.push(`${code}: ${e.message}`))
      n++
      setDone({ n, of: chosen.length, wrong, ended: false })
    }
    setDone({ n, of: chosen.length, wrong, ended: true })
    await queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'session' })
  }
  const label = (on: boolean) =>
    each(async (code) => {
      const s = await api.site(code)
      await api.send('PATCH', at('sites', code), { tags: retagged(s, tag, on) }, tagOf(s))
    })
  const probe = () =>
    each(async (code) => {
      const s = await api.site(code)
      for (const v of s.services) if (!stop.current) await api.probe(code, v.name, '')
    })
  const plan = () => each((site) => api.planWork({ site, minutes, reason }))
  const busy = done !== undefined && !done.ended
  const idle = chosen.length === 0 || busy
  return (
    <Box data-bulk sx={{ borderTop: (t) => t.rule.field, px: 2, py: 1 }}>
      <Stack direction="row" sx={{ gap: 1, alignItems: 'center', flexWrap: 'wrap' }}>
        <Typography sx={{ fontWeight: 600 }}>{words.chosen(chosen.length)}</Typography>
        <Button size="small" color="inherit" onClick={all}>
          {words.all}
        </Button>
        <Button size="small" color="inherit" onClick={none}>
          {words.none}
        </Button>
        <TextField
          size="small"
          fullWidth={false}
          label={words.tag}
          value={tag}
          onChange={(e) => setTag(e.target.value.trim())}
          sx={{ width: '9rem' }}
        />
        <Button size="small" variant="outlined" disabled={idle || !tag} onClick={() => void label(true)}>
          {words.give}
        </Button>
        <Button size="small" variant="outlined" disabled={idle || !tag} onClick={() => void label(false)}>
          {words.take}
        </Button>
        <Button size="small" variant="outlined" disabled={idle} onClick={() => void probe()}>
          {words.probe}
        </Button>
        <TextField
          size="small"
          fullWidth={false}
          type="number"
          label={words.minutes}
          value={minutes}
          onChange={(e) => setMinutes(Number(e.target.value))}
          sx={{ width: '7rem' }}
        />
        <TextField size="small" fullWidth={false} label={words.reason} value={reason} onChange={(e) => setReason(e.target.value)} />
        <Button size="small" variant="outlined" disabled={idle || minutes < 1} onClick={() => void plan()}>
          {words.plan}
        </Button>
        {busy && (
          <Button size="small" variant="outlined" onClick={() => (stop.current = true)}>
            {words.stop}
          </Button>
        )}
      </Stack>
      {done && (
        <Box sx={{ mt: 1 }} role="status">
          <LinearProgress variant="determinate" value={(100 * done.n) / done.of} aria-label={words.progress(done.n, done.of)} />
          <Typography variant="body2">{words.progress(done.n, done.of)}</Typography>
        </Box>
      )}
      {done?.wrong.map((w) => (
        <Alert key={w} severity="error">
          {w}
        </Alert>
      ))}
    </Box>
  )
}
