import { Alert, Box, Button, Link, Stack, TextField, Typography } from '@mui/material'
import { useQuery } from '@tanstack/react-query'
import { useEffect, useRef, useState } from 'react'
import { Link as To, useNavigate } from 'react-router'
import { api, type SiteSummary } from '../api'
import { Trail } from '../drawings/Trail'
import { Ago } from '../parts/Ago'
import { Entry } from '../parts/Entry'
import { FaultCard } from '../parts/FaultCard'
import { Section, Trouble } from '../parts/Sheet'
import { needs, toneOf } from '../words'

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
      <Link component={To} to={`/sites/${s.code}`} color="text.primary" sx={{ fontFamily: (t) => t.font.label, fontWeight: 700 }}>
        {s.code}
      </Link>
      <Typography noWrap>{s.name}</Typography>
      <Typography variant="body2" sx={{ color: toneOf[s.verdict] }}>
        {needs[s.need]}
      </Typography>
      <Typography variant="body2">
        {s.as_expected_count} of {s.service_count} services
      </Typography>
      <Typography variant="mono">{s.address || '-'}</Typography>
      <Typography variant="mono" noWrap>
        {s.hostname || '-'}
      </Typography>
    </Box>
  )
}

// FirstPage answers "what needs me now?".
export function FirstPage() {
  const overview = useQuery({ queryKey: ['overview'], queryFn: api.overview })
  const [search, setSearch] = useState('')
  const [adding, setAdding] = useState(false)
  const field = useRef<HTMLInputElement>(null)
  const go = useNavigate()
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      if (e.key === '/' && !(e.target instanceof HTMLInputElement || e.target instanceof HTMLTextAreaElement)) {
        e.preventDefault()
        field.current?.focus()
      }
    }
    addEventListener('keydown', key)
    return () => removeEventListener('keydown', key)
  }, [])
  const o = overview.data
  const words = search.toLowerCase().split(/\s+/).filter(Boolean)
  const sites = (o?.sites ?? []).filter((s) => {
    const text = [s.code, s.name, s.address, s.hostname, needs[s.need]].join(' ').toLowerCase()
    return words.every((w) => text.includes(w))
  })
  return (
    <>
      <Trouble error={overview.error} />
      {o?.trouble && (
        <Alert severity="warning" sx={{ mb: 2 }}>
          Mind that {o.trouble}.
        </Alert>
      )}
      {o?.standby && (
        <Alert severity="warning" sx={{ mb: 2 }}>
          {o.standby}. What you see is what it writes; changes are made there.
        </Alert>
      )}
      <Section title={o && o.faults.length === 0 ? 'Nothing needs you now' : 'What needs you now'} id="faults">
        {o?.faults.map((f) => (
          <FaultCard key={f.id} fault={f} />
        ))}
      </Section>
      <Section
        title="Sites"
        id="sites"
        aside={
          <Stack direction="row" sx={{ gap: 1, alignItems: 'center' }}>
            <TextField
              inputRef={field}
              placeholder="Find a site  /"
              value={search}
              onChange={(e) => setSearch(e.target.value)}
              slotProps={{ htmlInput: { 'aria-label': 'Find a site' } }}
              onKeyDown={(e) => {
                if (e.key === 'Enter' && sites.length > 0) void go(`/sites/${sites[0].code}`)
                if (e.key === 'Escape') setSearch('')
              }}
            />
            <Button variant="outlined" onClick={() => setAdding(true)} sx={{ whiteSpace: 'nowrap' }}>
              Add a site
            </Button>
          </Stack>
        }
      >
        {sites.map((s) => (
          <SiteLine key={s.code} s={s} />
        ))}
        {o && sites.length === 0 && (
          <Typography sx={{ px: 2, pb: 1, color: 'text.secondary' }}>No site {search ? `has “${search}”` : 'is on record yet'}.</Typography>
        )}
      </Section>
      <Section title="Recent moves" id="moves">
        {o?.moves.map((m) => (
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
              <Ago at={m.noticed} />
            </Typography>
            <Typography variant="mono">
              {m.old} → {m.new}
            </Typography>
            <Trail move={m} />
          </Box>
        ))}
      </Section>
      {adding && (
        <Entry
          title="Add a site"
          method="POST"
          path="/sites"
          given={{ code: '', name: '', note: '' }}
          close={() => setAdding(false)}
          done={(saved) => void go(`/sites/${(saved as SiteSummary).code}`)}
          blanks={[
            { name: 'code', label: 'Site code', help: 'Short and unique, such as KET-07' },
            { name: 'name', label: 'Name' },
            { name: 'note', label: 'Note for the next visit' },
          ]}
        />
      )}
    </>
  )
}
