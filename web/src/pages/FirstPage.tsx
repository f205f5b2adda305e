import { Alert, Box, Button, Link, Stack, TextField, Typography } from '@mui/material'
import { useQuery } from '@tanstack/react-query'
import { useEffect, useRef, useState } from 'react'
import { Link as To, useLocation, useNavigate } from 'react-router'
import { at, api, type FaultGroup, type SiteSummary } from '../api'
import { needs, say } from '../catalogue'
import { newSite } from '../forms/site'
import { Entry } from '../parts/Entry'
import { FaultCard } from '../parts/FaultCard'
import { MoveLine } from '../parts/MoveLine'
import { Section, Trouble } from '../parts/Sheet'
import { Titled } from '../parts/Titled'
import { toneOf } from '../words'

const words = say.first

function SiteLine({ s }: { s: SiteSummary }) {
  return (
    <Box
      data-site={s.code}
      sx={{
        display: 'grid',
        gridTemplateColumns: { xs: '5rem 1fr', md: '6rem 2fr 1.4fr 1fr 1.4fr 2.4fr' },
        columnGap: 2,
        alignItems: 'baseline',
        borderTop: (t) => t.rule.hair,
        px: 2,
        py: 0.5,
        contentVisibility: 'auto',
        containIntrinsicSize: 'auto 2rem',
      }}
    >
      <Link
        component={To}
        to={at('sites', s.code)}
        color="text.primary"
        sx={{ fontFamily: (t) => t.font.label, fontWeight: 700, overflowWrap: 'anywhere' }}
      >
        {s.code}
      </Link>
      <Typography noWrap>{s.name}</Typography>
      <Typography variant="body2" sx={{ color: toneOf[s.verdict] }}>
        {needs[s.need]}
      </Typography>
      <Typography variant="body2">{words.services(s.as_expected_count, s.service_count, s.awaited_count ?? 0)}</Typography>
      <Typography variant="mono">{s.address || '-'}</Typography>
      <Typography variant="mono" noWrap>
        {s.hostname || '-'}
      </Typography>
    </Box>
  )
}

// few is how many faults that stand alone are shown at once: the list of sites stays in view.
const few = 4

// Alike is what several sites have in common, opened on demand.
function Alike({ group: g }: { group: FaultGroup }) {
  const [open, setOpen] = useState(false)
  const rest = useQuery({
    queryKey: ['faults', 'alike', g.cause],
    queryFn: () => api.faultsWith(g.cause),
    enabled: open && g.count > g.faults.length,
  })
  const faults = (rest.data ?? g.faults).filter((f) => f.serious === g.serious)
  return (
    <Box data-alike={g.cause} sx={{ borderTop: (t) => t.rule.field }}>
      <Stack direction={{ xs: 'column', sm: 'row' }} sx={{ px: 2, py: 1, columnGap: 2, alignItems: 'baseline' }}>
        <Typography variant="value" sx={{ minWidth: (t) => t.draw.stationWidth, color: g.serious ? 'error.main' : 'warning.main' }}>
          {words.sitesAlike(g.sites)}
        </Typography>
        <Box sx={{ flex: 1 }}>
          <Typography sx={{ fontWeight: 600 }}>{g.summary}.</Typography>
          {!open && (
            <Typography variant="body2" sx={{ color: 'text.secondary' }}>
              {[...new Set(g.faults.map((f) => f.site || f.provider))].slice(0, 12).join(', ')}
              {g.sites > 12 && words.andMore(g.sites - 12)}
            </Typography>
          )}
        </Box>
        <Button color="inherit" size="small" aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? words.fold : words.unfold}
        </Button>
      </Stack>
      {open && faults.map((f) => <FaultCard key={f.id} fault={f} />)}
    </Box>
  )
}

// FirstPage answers "what needs me now?".
export function FirstPage() {
  const overview = useQuery({ queryKey: ['overview'], queryFn: api.overview })
  const [search, setSearch] = useState('')
  const [adding, setAdding] = useState(false)
  const [all, setAll] = useState(false)
  const field = useRef<HTMLInputElement>(null)
  const go = useNavigate()
  const { hash } = useLocation()
  useEffect(() => {
    if (hash === '#find') field.current?.focus()
  }, [hash])
  const o = overview.data
  const sought = search.toLowerCase().split(/\s+/).filter(Boolean)
  const sites = (o?.sites ?? []).filter((s) => {
    const text = [s.code, s.name, s.address, s.hostname, needs[s.need]].join(' ').toLowerCase()
    return sought.every((w) => text.includes(w))
  })
  return (
    <>
      <Titled of={words.title} />
      <Trouble error={overview.error} />
      {o?.trouble && (
        <Alert severity="warning" sx={{ mb: 2 }}>
          {say.warning(o.trouble)}
        </Alert>
      )}
      {o?.standby && (
        <Alert severity="warning" sx={{ mb: 2 }}>
          {words.standby(o.standby)}
        </Alert>
      )}
      <Section title={o && o.fault_count === 0 ? words.quiet : words.needed} id="faults">
        {o?.fault_groups.map((g) => (
          <Alike key={g.cause + g.serious} group={g} />
        ))}
        {o?.faults.slice(0, all ? undefined : few).map((f) => (
          <FaultCard key={f.id} fault={f} />
        ))}
        {o && !all && o.faults.length > few && (
          <Button color="inherit" sx={{ m: 1 }} onClick={() => setAll(true)}>
            {words.more(o.faults.length - few)}
          </Button>
        )}
      </Section>
      {o && o.awaited_count > 0 && (
        <Section title={say.commissioning.missing} id="awaited">
          {o.to_commission.map((t) => (
            <Stack
              key={t.site + t.subject}
              data-awaited={t.site}
              direction={{ xs: 'column', sm: 'row' }}
              sx={{ borderTop: (t) => t.rule.hair, px: 2, py: 0.75, gap: { xs: 0, sm: 2 } }}
            >
              <Link
                component={To}
                to={at('sites', t.site, ...(t.subject.startsWith('service ') ? ['commissioning'] : []))}
                color="text.primary"
                sx={{ fontFamily: (t) => t.font.label, fontWeight: 700, width: '5rem' }}
              >
                {t.site}
              </Link>
              <Typography sx={{ width: '10rem' }}>{t.subject}</Typography>
              <Typography sx={{ width: '16rem', fontWeight: 600 }}>{t.title}</Typography>
              <Typography variant="body2" sx={{ flex: 1, color: 'text.secondary' }}>
                {t.words}
              </Typography>
            </Stack>
          ))}
          {o.awaited_count > o.to_commission.length && (
            <Typography sx={{ px: 2, py: 0.75 }}>{say.commissioning.more(o.awaited_count - o.to_commission.length)}</Typography>
          )}
        </Section>
      )}
      <Section
        title={words.sites}
        id="sites"
        aside={
          <Stack direction="row" sx={{ gap: 1, alignItems: 'center' }}>
            <TextField
              inputRef={field}
              type="search"
              placeholder={`${words.find}  /`}
              value={search}
              onChange={(e) => setSearch(e.target.value)}
              slotProps={{ htmlInput: { 'aria-label': words.find } }}
              onKeyDown={(e) => {
                if (e.key === 'Enter' && sites.length > 0) void go(at('sites', sites[0].code))
                if (e.key === 'Escape') setSearch('')
              }}
            />
            <Button variant="outlined" onClick={() => setAdding(true)} sx={{ whiteSpace: 'nowrap' }}>
              {newSite.title}
            </Button>
          </Stack>
        }
      >
        {sites.map((s) => (
          <SiteLine key={s.code} s={s} />
        ))}
        {o && sites.length === 0 && (
          <Typography sx={{ px: 2, pb: 1, color: 'text.secondary' }}>{search ? words.noMatch(search) : words.none}</Typography>
        )}
      </Section>
      <Section title={words.moves} id="moves">
        {o?.moves.map((m) => (
          <MoveLine key={m.id} move={m} />
        ))}
      </Section>
      {adding && <Entry {...newSite} close={() => setAdding(false)} done={(saved) => void go(at('sites', (saved as SiteSummary).code))} />}
    </>
  )
}
