import { Alert, Box, Button, Link, Stack, Typography } from '@mui/material'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as To, useNavigate, useParams } from 'react-router'
import { api, at, tagOf, type Service } from '../api'
import { say } from '../catalogue'
import { Latency } from '../drawings/Latency'
import { PathLine } from '../drawings/PathLine'
import { Legend, Ribbon, Scale } from '../drawings/Ribbon'
import { siteForms } from '../forms/site'
import { Ago } from '../parts/Ago'
import { OfSite } from '../parts/Crumbs'
import { Entry } from '../parts/Entry'
import { useProbing } from '../parts/Probing'
import { day, Ranges, useWindow } from '../parts/Ranges'
import { useSession } from '../parts/session'
import { Field, Section, Trouble } from '../parts/Sheet'
import { Titled } from '../parts/Titled'
import { Weighed } from '../parts/Weighed'
import { length, toneOf } from '../words'
import { Brief } from './ServiceBlock'
import { CardSheet, ServiceDetail, Windows } from './ServiceDetail'

const words = say.service

// Head is what a service is, and how it stands.
function Head({ site, service: s, edit }: { site: string; service: Service; edit?: () => void }) {
  const probing = useProbing(site, s.name)
  return (
    <Box
      data-service={s.name}
      data-state={s.state}
      data-outcome={s.outcome}
      sx={{ bgcolor: 'background.paper', borderTop: (t) => t.rule.section, mb: 2, p: 2 }}
    >
      <Stack direction="row" sx={{ alignItems: 'baseline', columnGap: 2, rowGap: 0.5, flexWrap: 'wrap' }}>
        <Typography variant="code" component="h1" sx={{ overflowWrap: 'anywhere' }}>
          {s.name}
        </Typography>
        <Typography variant="value" sx={{ color: toneOf[s.verdict] }}>
          {s.state_words}
        </Typography>
        <Box sx={{ flex: 1 }} />
        {probing.ask}
        {edit && (
          <Button size="small" color="inherit" onClick={edit} aria-label={`${say.form.edit} service ${s.name}`}>
            {say.form.edit}
          </Button>
        )}
      </Stack>
      <Brief service={s} />
      <Box sx={{ display: 'flex', flexWrap: 'wrap', my: 1.5, pl: '1px', pt: '1px' }}>
        <Field label={words.outside}>{`${s.transport} ${s.external}`}</Field>
        <Field label={words.inside}>{`${s.device} ${s.internal}`}</Field>
        <Field label={words.every}>{length(s.interval_seconds * 1000)}</Field>
        <Field label={words.since}>
          <Ago at={s.since} />
        </Field>
        <Field label={words.latency}>{s.latency_us ? length(s.latency_us / 1000) : '–'}</Field>
      </Box>
      {probing.story}
      {s.not_provable && <Alert severity="warning">{words.silence}</Alert>}
    </Box>
  )
}

// Faults are those of a service, open ones first.
function Faults({ site, service }: { site: string; service: string }) {
  const list = useQuery({ queryKey: ['site', site, 'faults'], queryFn: () => api.faultsOf(site) })
  const own = (list.data ?? []).filter((f) => f.finding.subject === `service ${service}`).slice(0, 10)
  return (
    <Section title={words.faults} id="faults">
      <Trouble error={list.error} />
      {own.map((f) => (
        <Stack
          key={f.id}
          direction={{ xs: 'column', sm: 'row' }}
          sx={{ borderTop: (t) => t.rule.hair, px: 2, py: 0.5, columnGap: 2, alignItems: 'baseline' }}
        >
          <Link component={To} to={at('faults', String(f.id))} color="text.primary" sx={{ width: '7rem' }}>
            {say.fault.one(String(f.id))}
          </Link>
          <Typography sx={{ flex: 1 }}>{f.finding.summary}.</Typography>
          <Typography variant="label" sx={{ color: f.closed ? 'text.secondary' : 'error.main' }}>
            {f.closed ? words.over(length(Date.parse(f.closed) - Date.parse(f.opened))) : words.open}
            <Ago at={f.opened} />
          </Typography>
        </Stack>
      ))}
      {list.data && own.length === 0 && <Typography sx={{ px: 2, pb: 1, color: 'text.secondary' }}>{words.noFault}</Typography>}
    </Section>
  )
}

// charted is over how many days the latency is drawn at least.
const charted = 90

// ServicePage is one service: the way to it, what it did, how fast it was, and what to type into the router.
export function ServicePage() {
  const { code = '', name = '' } = useParams()
  const go = useNavigate()
  const may = useSession().role !== 'viewer'
  const [editing, edit] = useState(false)
  const site = useQuery({ queryKey: ['site', code], queryFn: () => api.site(code), refetchInterval: 5000 })
  const cards = useQuery({ queryKey: ['cards', code, name], queryFn: () => api.cards(code, name) })
  const kinds = useQuery({ queryKey: ['kinds'], queryFn: api.kinds, staleTime: Infinity, enabled: editing })
  const availability = useQuery({ queryKey: ['availability', code, name], queryFn: () => api.availability(code, name) })
  const shown = useWindow()
  const { view, zoom, range } = shown
  const s = site.data?.services.find((v) => v.name === name)
  if (!site.data) return <Trouble error={site.error} />
  if (!s) return <Trouble error={new Error(words.gone(name, site.data.code))} />
  const path = site.data.paths.find((p) => p.service === name)
  return (
    <>
      <Titled of={`${s.name}, ${site.data.code}`} shown />
      <OfSite code={site.data.code} here={s.name} />
      <Trouble error={site.error} />
      <Head site={code} service={s} edit={may ? () => edit(true) : undefined} />
      {path && (
        <Section title={words.way} id="path">
          <Box sx={{ px: 2, pb: 2 }}>
            <PathLine path={path} />
            {path.finding && <Weighed site={code} service={s.name} finding={path.finding} />}
          </Box>
        </Section>
      )}
      <Section title={words.did} id="history" aside={<Ranges of={shown} />}>
        <Box sx={{ px: 2, pb: 2 }}>
          <Ribbon site={code} service={s.name} view={view} zoom={zoom} />
          <Scale view={view} />
          <Legend />
          <Typography variant="body2" sx={{ mt: 1 }}>
            {words.history}
            {['csv', 'json'].map((f) => (
              <Link
                key={f}
                href={api.historyFile(code, s.name, view.from, view.until, f)}
                download={`${code}-${s.name}.${f}`}
                sx={{ mr: 1 }}
              >
                {f.toUpperCase()}
              </Link>
            ))}
          </Typography>
        </Box>
      </Section>
      <Section title={words.fast} id="latency">
        <Box sx={{ px: 2, pb: 2 }}>
          <Latency site={code} service={s.name} count={Math.max(charted, Math.round(range / day))} />
        </Box>
      </Section>
      <Section title={words.availability} id="availability">
        <Box sx={{ px: 2, pb: 2 }}>{availability.data?.[0] && <Windows list={availability.data[0].windows} />}</Box>
      </Section>
      <Section title={words.seen} id="seen">
        <ServiceDetail site={code} service={s} />
      </Section>
      <Section title={words.cards} id="cards">
        <Box sx={{ px: 2, pb: 2 }}>
          {cards.data?.map((c) => (
            <CardSheet key={c.title} card={c} />
          ))}
        </Box>
      </Section>
      <Faults site={code} service={s.name} />
      {editing && (
        <Entry
          {...siteForms(site.data, '', kinds.data ?? []).service(s)}
          removal={{ key: `service ${s.name}`, path: at('sites', code, 'services', s.name), tag: tagOf(s), kind: 'service' }}
          close={() => edit(false)}
          done={(saved) => void go(at('sites', code, 'services', (saved as Service).name), { replace: true })}
          gone={() => void go(at('sites', code))}
        />
      )}
    </>
  )
}
