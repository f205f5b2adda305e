import { Alert, Box, Button, Link, Stack, Typography } from '@mui/material'
import { useState } from 'react'
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
  folded?: boolean // it is one line until somebody asks for more
}) {
  const probing = useProbing(site, service.name)
  const [open, setOpen] = useState(!folded)
  if (folded && !open && !probing.probed)
    return (
      <Stack
        data-service={service.name}
        data-state={service.state}
        data-outcome={service.outcome}
        data-folded
        direction="row"
        sx={{ borderTop: (t) => t.rule.hair, px: 2, py: 0.25, columnGap: 2, alignItems: 'center', flexWrap: { xs: 'wrap', md: 'nowrap' } }}
      >
        <Link
          component={To}
          to={at('sites', site, 'services', service.name)}
          color="text.primary"
          sx={{ fontWeight: 700, width: '10rem', overflowWrap: 'anywhere' }}
        >
          {service.name}
        </Link>
        <Typography sx={{ color: toneOf[service.verdict], fontWeight: 600, width: '9rem' }}>{service.state_words}</Typography>
        <Box sx={{ flex: 1, minWidth: '12rem' }}>
          <Ribbon thin site={site} service={service.name} view={view} zoom={zoom} />
        </Box>
        <Button size="small" color="inherit" onClick={() => setOpen(true)} aria-label={words.unfold(service.name)}>
          {words.more}
        </Button>
      </Stack>
    )
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
      {path && <PathLine path={path} />}
      {path?.finding && <Weighed site={site} service={service.name} finding={path.finding} />}
      <Box sx={{ mt: 1 }}>
        <Ribbon site={site} service={service.name} view={view} zoom={zoom} />
      </Box>
    </Box>
  )
}
