import { Box, Button, Typography } from '@mui/material'
import { useMutation, useQuery } from '@tanstack/react-query'
import { Link as To, useParams } from 'react-router'
import { api, at, type Service, type Site } from '../api'
import { say } from '../catalogue'
import { AddressStair } from '../drawings/AddressStair'
import { Legend, Scale } from '../drawings/Ribbon'
import { Trail } from '../drawings/Trail'
import { Ago } from '../parts/Ago'
import { useSession } from '../parts/session'
import { Dotted } from '../parts/Dotted'
import { FaultCard } from '../parts/FaultCard'
import { Crumbs } from '../parts/Crumbs'
import { Ranges, useWindow } from '../parts/Ranges'
import { Field, Section, Trouble } from '../parts/Sheet'
import { Titled } from '../parts/Titled'
import { Exposure } from './Exposure'
import { ChangedHere } from './AuditPage'
import { Handover } from './Handover'
import { RecordSection } from './RecordSection'
import { ServiceBlock } from './ServiceBlock'
import { SiteSide } from './SiteSide'

const words = say.site
function Head({ site }: { site: Site }) {
  const link = site.links.find((l) => l.label === site.link)
  const name = site.hostnames[0]
  return (
    <Box sx={{ bgcolor: 'background.paper', borderTop: (t) => t.rule.section, mb: 2, p: 2 }}>
      <Typography variant="code" sx={{ overflowWrap: 'anywhere' }}>
        {site.code}
      </Typography>
      <Typography variant="value" component="div">
        {site.name}
      </Typography>
      {site.note && <Typography sx={{ color: 'text.secondary' }}>{site.note}</Typography>}
      {site.services.length > 0 && (
        <Button component={To} to={at('sites', site.code, 'commissioning')} variant="outlined" sx={{ mt: 1 }}>
          {say.commissioning.of(site.code)}
        </Button>
      )}
      <Box sx={{ display: 'flex', flexWrap: 'wrap', mt: 1.5, pl: '1px', pt: '1px' }}>
        <Field label={words.address}>
          <Dotted text={site.address || words.unknown} />
        </Field>
        <Field
          label={name ? `${words.hostname}, ${name.state}` : words.hostname}
          wide
          tone={name?.verdict === 'broken' ? 'error.main' : undefined}
        >
          <Dotted text={name?.name ?? words.none} />
        </Field>
        <Field label={words.services} tone={site.as_expected_count < site.service_count ? 'error.main' : undefined}>
          {`${site.as_expected_count} of ${site.service_count}`}
        </Field>
        <Field label={link ? `${words.link} ${link.label}, ${link.provider}` : words.link} tone={link?.overdue ? 'error.main' : undefined}>
          {!link ? (
            words.none
          ) : link.mode === 'static' ? (
            words.static
          ) : link.agent ? (
            <>
              {words.heard}
              <Ago at={link.heard} />
            </>
          ) : (
            words.noAgent
          )}
        </Field>
      </Box>
    </Box>
  )
}

// many is how many services a site has before those that are well are folded to a line each.
const many = 2

// SitePage shows one site: where its paths break, what its services did, how its address moved, and its record.
export function SitePage() {
  const { code = '' } = useParams()
  const session = useSession()
  const site = useQuery({ queryKey: ['site', code], queryFn: () => api.site(code), refetchInterval: 5000 })
  const moves = useQuery({ queryKey: ['moves', code], queryFn: () => api.moves(code, 200) })
  const renumber = useMutation({ mutationFn: (link: string) => api.renumber(code, link) })
  const window = useWindow()
  const { view, now, zoom } = window
  const s = site.data
  if (!s) return <Trouble error={site.error} />
  const order = (svc: Service) => (svc.not_provable ? 2 : { broken: 0, unsettled: 1, unproven: 1, proven: 3 }[svc.verdict]) // what fails first
  const services = [...s.services].sort((a, b) => order(a) - order(b))
  // What stands under the break of a path is not said twice.
  const told = new Set(s.paths.flatMap((p) => (p.finding ? [p.finding.cause + p.finding.subject] : [])))
  const apart = s.faults.filter((f) => !told.has(f.finding.cause + f.finding.subject))
  return (
    <>
      <Titled of={s.code} shown />
      <Crumbs here={s.code} />
      <Trouble error={site.error} />
      <Head site={s} />
      {apart.length > 0 && (
        <Section title={say.first.needed} id="faults">
          {apart.map((f) => (
            <FaultCard key={f.id} fault={f} />
          ))}
        </Section>
      )}
      <Section title={words.wayIn} id="services" aside={<Ranges of={window} />}>
        {services.map((svc, i) => (
          <ServiceBlock
            key={svc.name}
            folded={services.length > many && i > 0 && svc.verdict === 'proven'}
            site={s.code}
            service={svc}
            path={s.paths.find((p) => p.service === svc.name)}
            view={view}
            zoom={zoom}
          />
        ))}
        {services.length === 0 && <Typography sx={{ px: 2, pb: 1, color: 'text.secondary' }}>{words.noService}</Typography>}
        <Box sx={{ px: 2, py: 1, borderTop: (t) => t.rule.hair }}>
          <Scale view={view} />
          <Legend />
        </Box>
      </Section>
      {s.links.map((l) => {
        const own = (moves.data ?? []).filter((m) => m.link === l.label)
        return (
          <Section
            key={l.label}
            title={words.moves(l.label)}
            id={`moves-${l.label}`}
            aside={
              session.lab &&
              l.mode === 'dynamic' && (
                <Button size="small" variant="outlined" disabled={renumber.isPending} onClick={() => renumber.mutate(l.label)}>
                  {words.renumber}
                </Button>
              )
            }
          >
            <Box sx={{ px: 2, pb: 2 }}>
              <AddressStair moves={own} now={now} />
              {own.slice(0, 3).map((m) => (
                <Box key={m.id} sx={{ borderTop: (t) => t.rule.hair, pt: 1, mt: 1 }}>
                  <Typography variant="mono" component="div">
                    {m.old} → {m.new}, {words.noticed}
                    <Ago at={m.noticed} /> ({m.source})
                  </Typography>
                  <Trail move={m} />
                </Box>
              ))}
            </Box>
          </Section>
        )
      })}
      <SiteSide site={s} />
      <Exposure site={s} />
      <Handover site={s} />
      <RecordSection site={s} />
      <ChangedHere site={s.code} />
    </>
  )
}
