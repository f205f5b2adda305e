import { Box, Link, Stack, Typography } from '@mui/material'
import { Link as To } from 'react-router'
import { at, type Fault, type Finding } from '../api'
import { say } from '../catalogue'
import { exact } from '../words'
import { Ago } from './Ago'

// Explained is a finding in words: what is wrong, what to do, what it could be instead.
export function Explained({ finding }: { finding: Finding }) {
  return (
    <Box>
      <Typography sx={{ fontWeight: 600 }}>
        {finding.summary}.{' '}
        <Typography component="span" variant="label">
          {say.fault.sure[finding.sure]},
        </Typography>{' '}
        <Link
          component={To}
          to={at('causes', finding.cause)}
          variant="label"
          color="text.secondary"
          aria-label={say.fault.about(finding.cause)}
        >
          {finding.cause}
        </Link>
      </Typography>
      <Typography>{finding.next_step}</Typography>
      {finding.also?.map((a) => (
        <Typography key={a} variant="body2" sx={{ color: 'text.secondary' }}>
          {say.fault.also(a)}
        </Typography>
      ))}
      {finding.check && (
        <Typography variant="body2" sx={{ color: 'text.secondary' }}>
          {say.fault.check(finding.check.ask)}
        </Typography>
      )}
    </Box>
  )
}

// taken says how far people are with a fault.
function taken(f: Fault): string {
  if (f.planned_until) return `${say.fault.planned} ${exact(f.planned_until)}`
  if (f.assigned) return say.fault.whose(f.assigned)
  return f.acknowledged_by ? say.fault.known(f.acknowledged_by) : ''
}

// Whose leads to the site of a fault; one of a provider or a vantage point has none, and leads to itself.
export function Whose({ fault, variant }: { fault: Fault; variant?: 'value' }) {
  return (
    <Link
      component={To}
      to={fault.site ? at('sites', fault.site) : at('faults', String(fault.id))}
      variant={variant ?? 'inherit'}
      color="text.primary"
    >
      {fault.site || fault.provider || fault.finding.subject}
    </Link>
  )
}

export function FaultCard({ fault }: { fault: Fault }) {
  return (
    <Stack
      direction={{ xs: 'column', sm: 'row' }}
      data-fault={fault.finding.cause}
      sx={{ borderTop: (t) => t.rule.field, px: 2, py: 1, gap: { xs: 0.5, sm: 2 } }}
    >
      <Box sx={{ minWidth: (t) => t.draw.stationWidth }}>
        <Whose fault={fault} variant="value" />
        <Typography variant="label" component="div">
          {fault.site ? fault.site_name : fault.provider ? say.fault.sites(fault.sites ?? 0) : ''}
        </Typography>
      </Box>
      <Box sx={{ minWidth: (t) => t.draw.stationWidth }}>
        <Typography variant="label" component="div">
          {say.fault.breaksAt}
        </Typography>
        <Typography sx={{ color: fault.serious ? 'error.main' : 'warning.main', fontWeight: 600 }}>{fault.finding.hop}</Typography>
        <Typography variant="label" component="div">
          <Link component={To} to={at('faults', String(fault.id))} color="inherit">
            {say.fault.one(String(fault.id))}
          </Link>
          , <Ago at={fault.opened} />
        </Typography>
        {taken(fault) && (
          <Typography variant="label" component="div" data-taken>
            {taken(fault)}
          </Typography>
        )}
      </Box>
      <Box sx={{ flex: 1 }}>
        <Explained finding={fault.finding} />
      </Box>
    </Stack>
  )
}
