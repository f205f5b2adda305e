import { Box, Button, Checkbox, MenuItem, Stack, styled, TextField, Typography, useTheme } from '@mui/material'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { memo, useCallback, useEffect, useRef, useState } from 'react'
import { Link as To, useLocation, useNavigate, useSearchParams } from 'react-router'
import { api, at, type Need, type SiteSummary } from '../api'
import { needs, say } from '../catalogue'
import { newSite } from '../forms/site'
import { Bulk } from '../parts/Bulk'
import { useEndless } from '../parts/endless'
import { Entry } from '../parts/Entry'
import { useSession } from '../parts/session'
import { Section, Trouble } from '../parts/Sheet'
import { toneOf } from '../words'

const words = say.sites

// Line is one styled element with plain ones in it: a list is drawn anew with each key that is typed into the search.
const Line = styled('div')(({ theme: t }) => ({
  display: 'grid',
  gridTemplateColumns: '5.5rem 1fr',
  columnGap: t.spacing(2),
  alignItems: 'baseline',
  borderTop: t.rule.hair,
  padding: t.spacing(0.5, 2),
  contentVisibility: 'auto',
  containIntrinsicSize: 'auto 2rem',
  '& > *': { overflow: 'hidden', textOverflow: 'ellipsis', whiteSpace: 'nowrap' },
  '& .code': { display: 'flex', alignItems: 'baseline', whiteSpace: 'normal' },
  '& .code a': { fontFamily: t.font.label, fontWeight: 700, overflowWrap: 'anywhere', color: 'inherit' },
  '& .small': { ...t.typography.body2 },
  '& .mono': { ...t.typography.mono },
  [t.breakpoints.up('md')]: { gridTemplateColumns: '7rem 2fr 1.4fr 1fr 1.4fr 2.4fr' },
}))

const SiteLine = memo(function SiteLine({
  s,
  chosen,
  choose,
}: {
  s: SiteSummary
  chosen?: boolean
  choose?: (code: string, on: boolean) => void
}) {
  const { palette } = useTheme()
  const [family, shade] = toneOf[s.verdict].split('.') as ['error', 'main']
  return (
    <Line data-site={s.code}>
      <span className="code">
        {choose && (
          <Checkbox
            size="small"
            sx={{ p: 0, mr: 0.5, alignSelf: 'center' }}
            checked={chosen}
            onChange={(e) => choose(s.code, e.target.checked)}
            slotProps={{ input: { 'aria-label': words.choose(s.code) } }}
          />
        )}
        <To to={at('sites', s.code)}>{s.code}</To>
      </span>
      <span>{s.name}</span>
      <span className="small" style={{ color: palette[family][shade] }}>
        {needs[s.need]}
      </span>
      <span className="small">{words.services(s.as_expected_count, s.service_count, s.awaited_count ?? 0)}</span>
      <span className="mono">{s.address || '-'}</span>
      <span className="mono">{s.hostname || '-'}</span>
    </Line>
  )
})

// filters are in the order in which the server writes them.
const filters = ['find', 'need', 'sort', 'tag']

// named is a filter in words.
const named = (of: string) =>
  [...new URLSearchParams(of)]
    .map(([k, v]) => (k === 'need' ? needs[v as Need] : k === 'sort' ? words.by(v) : k === 'tag' ? `#${v}` : v))
    .join(', ')

// Filters are what the list is narrowed to, and those that are kept.
function Filters({ asked, ask }: { asked: URLSearchParams; ask: (of: URLSearchParams) => void }) {
  const queries = useQueryClient()
  const kept = useQuery({ queryKey: ['filters'], queryFn: api.filters, staleTime: 60000 }).data ?? []
  const again = { onSuccess: () => queries.invalidateQueries({ queryKey: ['filters'] }) }
  const keep = useMutation({ mutationFn: api.keepFilter, ...again })
  const drop = useMutation({ mutationFn: api.dropFilter, ...again })
  const now = new URLSearchParams(filters.flatMap((k): [string, string][] => (asked.get(k) ? [[k, asked.get(k)!]] : []))).toString()
  const set = (name: string, value: string) => {
    const next = new URLSearchParams(asked)
    if (value) next.set(name, value)
    else next.delete(name)
    ask(next)
  }
  return (
    <Stack direction="row" sx={{ px: 2, pb: 1, gap: 1, alignItems: 'center', flexWrap: 'wrap' }}>
      <TextField
        select
        size="small"
        fullWidth={false}
        label={words.need}
        value={asked.get('need') ?? ''}
        onChange={(e) => set('need', e.target.value)}
        sx={{ minWidth: '11rem' }}
      >
        <MenuItem value="">{words.any}</MenuItem>
        {(Object.keys(needs) as Need[]).map((n) => (
          <MenuItem key={n} value={n}>
            {needs[n]}
          </MenuItem>
        ))}
      </TextField>
      <TextField
        select
        size="small"
        fullWidth={false}
        label={words.sort}
        value={asked.get('sort') ?? 'need'}
        onChange={(e) => set('sort', e.target.value === 'need' ? '' : e.target.value)}
        sx={{ minWidth: '8rem' }}
      >
        {Object.entries(words.orders).map(([k, w]) => (
          <MenuItem key={k} value={k}>
            {w}
          </MenuItem>
        ))}
      </TextField>
      <TextField
        size="small"
        fullWidth={false}
        label={words.tag}
        value={asked.get('tag') ?? ''}
        onChange={(e) => set('tag', e.target.value.trim())}
        sx={{ width: '8rem' }}
      />
      {now && !kept.some((f) => f.query === now) && (
        <Button size="small" color="inherit" onClick={() => keep.mutate(now)}>
          {words.keep}
        </Button>
      )}
      {kept.map((f) => (
        <Box key={f.id} data-kept={f.query} sx={{ border: (t) => t.rule.hair, pl: 0.5 }}>
          <Button size="small" color="inherit" aria-pressed={f.query === now} onClick={() => ask(new URLSearchParams(f.query))}>
            {named(f.query)}
          </Button>
          <Button
            size="small"
            color="inherit"
            sx={{ minWidth: 0 }}
            aria-label={words.drop(named(f.query))}
            onClick={() => drop.mutate(f.id)}
          >
            ×
          </Button>
        </Box>
      ))}
      {(keep.error ?? drop.error) && <Trouble error={keep.error ?? drop.error} />}
    </Stack>
  )
}

// SiteList lists the sites that are searched for, those in need first. What it is narrowed to stands in the address of the page.
export function SiteList() {
  const [asked, ask] = useSearchParams()
  const [adding, setAdding] = useState(false)
  const [chosen, setChosen] = useState<string[]>()
  const may = useSession().role !== 'viewer'
  const field = useRef<HTMLInputElement>(null)
  const go = useNavigate()
  const { hash, pathname } = useLocation()
  useEffect(() => {
    if (hash === '#find') field.current?.focus()
  }, [hash])
  // What is typed counts at once; the address of the page follows at a pause, as the whole page is drawn anew with it.
  const [search, setSearch] = useState(asked.get('find') ?? '')
  const pause = useRef<ReturnType<typeof setTimeout>>(undefined)
  useEffect(() => () => clearTimeout(pause.current), [])
  const query = { search, tag: asked.get('tag') ?? '', need: asked.get('need') ?? '', sort: asked.get('sort') ?? '' }
  const { all: sites, total, read, error, end } = useEndless(['sites'], query, api.sites)
  const choose = useCallback(
    (code: string, on: boolean) => setChosen((was = []) => (on ? [...was, code] : was.filter((c) => c !== code))),
    [],
  )
  const narrow = (value: string) => {
    setSearch(value)
    clearTimeout(pause.current)
    pause.current = setTimeout(() => {
      // Whoever has left for another page meanwhile, which may not be drawn yet, is not called back.
      if (window.location.pathname !== pathname) return
      ask(
        (was) => {
          if (value) was.set('find', value)
          else was.delete('find')
          return was
        },
        { replace: true },
      )
    }, 300)
  }
  return (
    <Section
      title={total ? words.count(total) : words.title}
      id="sites"
      aside={
        <Stack direction="row" sx={{ gap: 1, alignItems: 'center', flexWrap: 'wrap' }}>
          <TextField
            inputRef={field}
            type="search"
            fullWidth={false}
            placeholder={`${words.find}  /`}
            value={search}
            onChange={(e) => narrow(e.target.value)}
            slotProps={{ htmlInput: { 'aria-label': words.find } }}
            onKeyDown={(e) => {
              if (e.key === 'Enter' && sites.length > 0) void go(at('sites', sites[0].code))
              if (e.key === 'Escape') narrow('')
            }}
          />
          {may && (
            <>
              <Button color="inherit" aria-pressed={chosen !== undefined} onClick={() => setChosen(chosen ? undefined : [])}>
                {words.several}
              </Button>
              <Button component={To} to="/files" color="inherit">
                {words.files}
              </Button>
              <Button variant="outlined" onClick={() => setAdding(true)} sx={{ whiteSpace: 'nowrap' }}>
                {newSite.title}
              </Button>
            </>
          )}
        </Stack>
      }
    >
      <Filters
        asked={asked}
        ask={(of) => {
          clearTimeout(pause.current)
          setSearch(of.get('find') ?? '')
          ask(of, { replace: true })
        }}
      />
      {chosen && <Bulk chosen={chosen} all={() => setChosen(sites.map((s) => s.code))} none={() => setChosen([])} />}
      <Trouble error={error} />
      {sites.map((s) => (
        <SiteLine key={s.code} s={s} chosen={chosen?.includes(s.code)} choose={chosen && choose} />
      ))}
      {read && sites.length === 0 && (
        <Typography sx={{ px: 2, pb: 1, color: 'text.secondary' }}>{asked.size ? words.noMatch : words.none}</Typography>
      )}
      <div ref={end} />
      {adding && <Entry {...newSite} close={() => setAdding(false)} done={(saved) => void go(at('sites', (saved as SiteSummary).code))} />}
    </Section>
  )
}
