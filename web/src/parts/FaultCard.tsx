import { Box, Link, Stack, Typography } from '@mui/material'
import { Link as To } from 'react-router'
import { at, type Fault, type Finding } from '../api'
import { say } from '../catalogue'
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

export function FaultCard({ fault }: { fault: Fault }) {
  return (
    <Stack
      direction={{ xs: 'column', sm: 'row' }}
      data-fault={fault.finding.cause}
      sx={{ borderTop: (t) => t.rule.field, px: 2, py: 1, gap: { xs: 0.5, sm: 2 } }}
    >
      <Box sx={{ minWidth: (t) => t.draw.stationWidth }}>
        <Link component={To} to={at('sites', fault.site)} variant="value" color="text.primary">
          {fault.site}
        </Link>
        <Typography variant="label" component="div">
          {fault.site_name}
        </Typography>
      </Box>
      <Box sx={{ minWidth: (t) => t.draw.stationWidth }}>
        <Typography variant="label" component="div">
          {say.fault.breaksAt}
        </Typography>
        <Typography sx={{ color: fault.serious ? 'error.main' : 'warning.main', fontWeight: 600 }}>{fault.finding.hop}</Typography>
        <Typography variant="label" component="div">
          <Ago at={fault.opened} />
        </Typography>
      </Box>
      <Box sx={{ flex: 1 }}>
        <Explained finding={fault.finding} />
      </Box>
    </Stack>
  )
}
