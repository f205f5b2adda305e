import { Box, Typography } from '@mui/material'
import type { Path, Station, Verdict } from '../api'
import { say } from '../catalogue'
import { Dotted } from '../parts/Dotted'
import { Explained } from '../parts/FaultCard'

const tones: Record<Verdict, string> = {
  proven: 'text.primary',
  unsettled: 'warning.main',
  broken: 'error.main',
  unproven: 'text.secondary',
}

// The line between two stations: inked where it is proven, dashed where unsettled, torn where it breaks, faint behind.
function Stretch({ verdict }: { verdict: Verdict }) {
  const style = { proven: 'solid', unsettled: 'dashed', broken: 'none', unproven: 'dotted' }[verdict]
  return (
    <Box
      aria-hidden
      sx={{
        display: 'flex',
        alignItems: 'center',
        justifyContent: 'center',
        color: tones[verdict],
        fontWeight: 700,
        width: { xs: 'auto', md: (t) => t.draw.gap },
        height: { xs: (t) => `${t.draw.gap}px`, md: 'auto' },
        flexShrink: 0,
        '&::before': {
          content: verdict === 'broken' ? '"╳"' : '""',
          borderColor: 'currentColor',
          borderStyle: style,
          borderWidth: { xs: (t) => `0 0 0 ${t.draw.line}px`, md: (t) => `${t.draw.line}px 0 0 0` },
          height: { xs: verdict === 'broken' ? 'auto' : '100%', md: 'auto' },
          width: { xs: 'auto', md: verdict === 'broken' ? 'auto' : '100%' },
        },
      }}
    />
  )
}

function Stop({ station }: { station: Station }) {
  const broken = station.verdict === 'broken'
  return (
    <Box
      data-hop={station.hop}
      data-verdict={station.verdict}
      sx={{
        border: (t) => (broken ? t.rule.broken : station.verdict === 'unproven' ? t.rule.hair : t.rule.field),
        px: 1,
        py: 0.5,
        flex: station.hop === 'hostname' ? '1.9 1 0' : '1 1 0',
        minWidth: 0,
      }}
    >
      <Typography variant="label" component="div">
        {say.path.hops[station.hop]}
      </Typography>
      <Typography variant="mono" component="div" sx={{ color: tones[station.verdict], fontWeight: 500 }}>
        <Dotted text={station.value} />
      </Typography>
      {station.detail && (
        <Typography variant="label" component="div">
          {station.detail}
        </Typography>
      )}
      <Typography variant="label" component="div" sx={{ color: tones[station.verdict] }}>
        {station.verdict}
      </Typography>
    </Box>
  )
}

// PathLine draws the way from outside to a service: a station for each hop, and under the break its cause and next step.
export function PathLine({ path }: { path: Path }) {
  return (
    <Box>
      <Box
        role="img"
        aria-label={say.path.title(path.service, path.state_words)}
        sx={{ display: 'flex', flexDirection: { xs: 'column', md: 'row' }, alignItems: 'stretch' }}
      >
        {path.stations.map((s, i) => (
          <Box key={s.hop} sx={{ display: 'contents' }}>
            {i > 0 && <Stretch verdict={s.verdict} />}
            <Stop station={s} />
          </Box>
        ))}
      </Box>
      {path.finding && (
        <Box sx={{ borderLeft: (t) => t.rule.broken, mt: 1, pl: 1.5 }}>
          <Explained finding={path.finding} />
        </Box>
      )}
      {path.remarks?.map((r) => (
        <Typography key={r.cause} variant="body2" data-remark={r.cause} sx={{ mt: 0.5, color: 'text.secondary' }}>
          {r.words}. {r.next_step}
        </Typography>
      ))}
    </Box>
  )
}
