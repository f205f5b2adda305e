import { Button, FormControlLabel, MenuItem, Stack, Switch, TextField, Typography } from '@mui/material'
import { useQuery } from '@tanstack/react-query'
import { useSearchParams } from 'react-router'
import { api } from '../api'
import { say } from '../catalogue'
import { MoveLine } from '../parts/MoveLine'
import { Section, Trouble } from '../parts/Sheet'
import { Titled } from '../parts/Titled'

const words = say.moves

const stretches: [string, number][] = [
  [words.allTime, 0],
  [say.stretch.day, 1],
  [say.stretch.week, 7],
  [say.stretch.month, 30],
  [say.stretch.quarter, 90],
]
const sources = ['', 'observed', 'stun', 'gateway', 'interface', 'fixed']

// MovesPage is the record of all moves, narrowed by what stands in the address of the page, so that it can be sent on.
export function MovesPage() {
  const [chosen, choose] = useSearchParams()
  const overview = useQuery({ queryKey: ['overview'], queryFn: api.overview })
  const narrow = (by: Record<string, string>) => {
    const change = (p: URLSearchParams) => {
      const next = new URLSearchParams(p)
      for (const [name, value] of Object.entries(by)) {
        if (value) next.set(name, value)
        else next.delete(name)
      }
      return next
    }
    choose(change, { replace: true })
  }
  const set = (name: string, value: string) => narrow({ [name]: value })
  const since = (days: number) =>
    narrow(days ? { days: String(days), since: new Date(Date.now() - days * 86400_000).toISOString() } : { days: '', since: '' })
  const query = new URLSearchParams()
  for (const name of ['site', 'source', 'address', 'unfinished', 'since']) {
    const value = chosen.get(name)
    if (value) query.set(name, value)
  }
  const days = Number(chosen.get('days') ?? 0)
  const moves = useQuery({
    queryKey: ['movesBy', chosen.toString()],
    retry: false,
    queryFn: () => {
      const q = new URLSearchParams(query)
      q.set('limit', '100')
      return api.movesBy(q)
    },
  })
  const table = new URLSearchParams([...query, ['format', 'csv'], ['limit', '500']])
  return (
    <>
      <Titled of={words.title} />
      <Trouble error={moves.error} />
      <Section
        title={words.title}
        id="moves"
        aside={
          <Button size="small" variant="outlined" component="a" href={`/api/v1/moves?${table}`}>
            {words.csv}
          </Button>
        }
      >
        <Stack
          direction="row"
          sx={{ gap: 1, px: 2, pb: 2, flexWrap: 'wrap', '& > .MuiTextField-root': { width: { xs: '100%', sm: '10rem' } } }}
        >
          <TextField select label={words.site} name="site" value={chosen.get('site') ?? ''} onChange={(e) => set('site', e.target.value)}>
            <MenuItem value="">{words.allSites}</MenuItem>
            {(overview.data?.sites ?? [])
              .map((s) => s.code)
              .sort()
              .map((c) => (
                <MenuItem key={c} value={c}>
                  {c}
                </MenuItem>
              ))}
          </TextField>
          <TextField select label={words.within} name="days" value={String(days)} onChange={(e) => since(Number(e.target.value))}>
            {stretches.map(([word, n]) => (
              <MenuItem key={n} value={String(n)}>
                {word}
              </MenuItem>
            ))}
          </TextField>
          <TextField
            select
            label={words.source}
            name="source"
            value={chosen.get('source') ?? ''}
            onChange={(e) => set('source', e.target.value)}
          >
            {sources.map((s) => (
              <MenuItem key={s} value={s}>
                {s || words.anySource}
              </MenuItem>
            ))}
          </TextField>
          <TextField
            label={words.address}
            name="address"
            defaultValue={chosen.get('address') ?? ''}
            onKeyDown={(e) => {
              if (e.key === 'Enter') set('address', (e.target as HTMLInputElement).value.trim())
            }}
            onBlur={(e) => set('address', e.target.value.trim())}
          />
          <FormControlLabel
            label={words.unfinished}
            control={
              <Switch checked={chosen.get('unfinished') === 'true'} onChange={(e) => set('unfinished', e.target.checked ? 'true' : '')} />
            }
          />
        </Stack>
        {moves.data?.length === 0 && <Typography sx={{ px: 2, pb: 1, color: 'text.secondary' }}>{words.none}</Typography>}
        {moves.data?.map((m) => (
          <MoveLine key={m.id} move={m} withSource />
        ))}
      </Section>
    </>
  )
}
