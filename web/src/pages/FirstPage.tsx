import { Alert, Box, Button, Link, Stack, Typography } from '@mui/material'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as To } from 'react-router'
import { at, api, type FaultGroup } from '../api'
import { say } from '../catalogue'
import { FaultCard } from '../parts/FaultCard'
import { MoveLine } from '../parts/MoveLine'
import { Section, Trouble } from '../parts/Sheet'
import { Titled } from '../parts/Titled'
import { SiteList } from './SiteList'

const words = say.first

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
  const [all, setAll] = useState(false)
  const o = overview.data
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
      <SiteList />
      <Section title={words.moves} id="moves">
        {o?.moves.map((m) => (
          <MoveLine key={m.id} move={m} />
        ))}
      </Section>
    </>
  )
}
