import { Box, Button, FormControlLabel, Link, MenuItem, Stack, Switch, TextField, Typography } from '@mui/material'
import { useQuery } from '@tanstack/react-query'
import { Link as To, useSearchParams } from 'react-router'
import { api } from '../api'
import { Trail } from '../drawings/Trail'
import { Ago } from '../parts/Ago'
import { Section, Trouble } from '../parts/Sheet'

const stretches: [string, number][] = [
  ['all time', 0],
  ['a day', 1],
  ['a week', 7],
  ['30 days', 30],
  ['90 days', 90],
]
const sources = ['', 'observed', 'stun', 'gateway', 'interface', 'fixed']

// MovesPage is the record of all moves, narrowed by what stands in the address of the page, so that it can be sent on.
export function MovesPage() {
  const [chosen, choose] = useSearchParams()
  const overview = useQuery({ queryKey: ['overview'], queryFn: api.overview })
  const set = (name: string, value: string) =>
    choose(
      (p) => {
        const next = new URLSearchParams(p)
        if (value) next.set(name, value)
        else next.delete(name)
        return next
      },
      { replace: true },
    )
  const since = (days: number) =>
    choose(
      (p) => {
        const next = new URLSearchParams(p)
        next.delete('days')
        next.delete('since')
        if (days) {
          next.set('days', String(days))
          next.set('since', new Date(Date.now() - days * 86400_000).toISOString())
        }
        return next
      },
      { replace: true },
    )
  const query = new URLSearchParams()
  for (const name of ['site', 'source', 'address', 'unfinished', 'since']) {
    const value = chosen.get(name)
    if (value) query.set(name, value)
  }
  const days = Number(chosen.get('days') ?? 0)
  const moves = useQuery({
    queryKey: ['moves', chosen.toString()],
    retry: false,
    queryFn: () => {
      const q = new URLSearchParams(query)
      q.delete('format')
      q.set('limit', '100')
      return api.movesBy(q)
    },
  })
  query.set('format', 'csv')
  query.set('limit', '500')
  return (
    <>
      <Trouble error={moves.error} />
      <Section
        title="Moves"
        id="moves"
        aside={
          <Button size="small" variant="outlined" component="a" href={`/api/v1/moves?${query}`}>
            As CSV
          </Button>
        }
      >
        <Stack
          direction="row"
          sx={{ gap: 1, px: 2, pb: 2, flexWrap: 'wrap', '& > .MuiTextField-root': { width: { xs: '100%', sm: '10rem' } } }}
        >
          <TextField select label="Site" name="site" value={chosen.get('site') ?? ''} onChange={(e) => set('site', e.target.value)}>
            <MenuItem value="">all sites</MenuItem>
            {(overview.data?.sites ?? [])
              .map((s) => s.code)
              .sort()
              .map((c) => (
                <MenuItem key={c} value={c}>
                  {c}
                </MenuItem>
              ))}
          </TextField>
          <TextField select label="Noticed within" name="days" value={String(days)} onChange={(e) => since(Number(e.target.value))}>
            {stretches.map(([word, n]) => (
              <MenuItem key={n} value={String(n)}>
                {word}
              </MenuItem>
            ))}
          </TextField>
          <TextField
            select
            label="Learned by"
            name="source"
            value={chosen.get('source') ?? ''}
            onChange={(e) => set('source', e.target.value)}
          >
            {sources.map((s) => (
              <MenuItem key={s} value={s}>
                {s || 'any source'}
              </MenuItem>
            ))}
          </TextField>
          <TextField
            label="Left or came to address"
            name="address"
            defaultValue={chosen.get('address') ?? ''}
            onKeyDown={(e) => {
              if (e.key === 'Enter') set('address', (e.target as HTMLInputElement).value.trim())
            }}
            onBlur={(e) => set('address', e.target.value.trim())}
          />
          <FormControlLabel
            label="not finished"
            control={
              <Switch checked={chosen.get('unfinished') === 'true'} onChange={(e) => set('unfinished', e.target.checked ? 'true' : '')} />
            }
          />
        </Stack>
        {moves.data?.length === 0 && <Typography sx={{ px: 2, pb: 1, color: 'text.secondary' }}>No matching moves.</Typography>}
        {moves.data?.map((m) => (
          <Box
            key={m.id}
            sx={{
              borderTop: (t) => t.rule.hair,
              px: 2,
              py: 1,
              display: 'grid',
              gridTemplateColumns: { xs: '1fr', md: '6rem 8rem 22rem 1fr' },
              columnGap: 2,
            }}
          >
            <Link component={To} to={`/sites/${m.site}`} color="text.primary" sx={{ fontFamily: (t) => t.font.label, fontWeight: 700 }}>
              {m.site}
            </Link>
            <Typography variant="body2">
              <Ago at={m.noticed} />, {m.source}
            </Typography>
            <Typography variant="mono">
              {m.old} → {m.new}
            </Typography>
            <Trail move={m} />
          </Box>
        ))}
      </Section>
    </>
  )
}
