import { Alert, Box, Link, Stack, Typography } from '@mui/material'
import { Link as To } from 'react-router'
import { at, type Path, type Service } from '../api'
import { say } from '../catalogue'
import { PathLine } from '../drawings/PathLine'
import { Weighed } from '../parts/Weighed'
import type { Window } from '../drawings/bars'
import { Ribbon } from '../drawings/Ribbon'
import { Ago } from '../parts/Ago'
import { useProbing } from '../parts/Probing'
import { exact, toneOf } from '../words'

const words = say.service

// Brief is what a service is, and what came of probing it last.
export function Brief({ service }: { service: Service }) {
  const closed = service.expected_now === 'closed'
  return (
    <Typography variant="body2" sx={{ color: 'text.secondary' }}>
      {service.kind} {service.outcome ?? words.notProbed}
      {words.on(`${service.transport} ${service.external}`)}
      {closed ? words.mustClose : service.open_until && words.openUntil(exact(service.open_until))}
      {words.probed}
      <Ago at={service.probed} />
    </Typography>
  )
}

// ServiceBlock is one service on its site's page: how it stands, the way to it, and what it did.
export function ServiceBlock({
  site,
  service,
  path,
  view,
  zoom,
  folded = false,
}: {
  site: string
  service: Service
  path?: Path
  view: Window
  zoom: (w: Window) => void
  folded?: boolean // its path is on its own page
}) {
  const probing = useProbing(site, service.name)
  return (
    <Box
      data-service={service.name}
      data-state={service.state}
      data-outcome={service.outcome}
      sx={{ borderTop: (t) => t.rule.field, px: 2, py: 1.5 }}
    >
      <Stack direction="row" sx={{ alignItems: 'baseline', columnGap: 2, rowGap: 0.5, mb: 1, flexWrap: 'wrap' }}>
        <Link component={To} to={at('sites', site, 'services', service.name)} variant="value" color="text.primary">
          {service.name}
        </Link>
        <Typography sx={{ color: toneOf[service.verdict], fontWeight: 600 }}>{service.state_words}</Typography>
        <Brief service={service} />
        <Box sx={{ flex: 1 }} />
        {probing.ask}
      </Stack>
      {probing.story}
      {service.not_provable && (
        <Alert severity="warning" sx={{ mb: 1 }}>
          {words.silence}
        </Alert>
      )}
      {path && (!folded || probing.probed) && <PathLine path={path} />}
      {path?.finding && <Weighed site={site} service={service.name} finding={path.finding} />}
      <Box sx={{ mt: 1 }}>
        <Ribbon site={site} service={service.name} view={view} zoom={zoom} />
      </Box>
    </Box>
  )
}
