import { Box, Link, Typography } from '@mui/material'
import { Link as To } from 'react-router'
import { at, type Move } from '../api'
import { Trail } from '../drawings/Trail'
import { Ago } from './Ago'

// MoveLine is one move in a list of several sites' moves.
export function MoveLine({ move: m, withSource = false }: { move: Move; withSource?: boolean }) {
  return (
    <Box
      sx={{
        borderTop: (t) => t.rule.hair,
        px: 2,
        py: 1,
        display: 'grid',
        gridTemplateColumns: { xs: '1fr', md: '6rem 8rem 22rem 1fr' },
        columnGap: 2,
      }}
    >
      <Link component={To} to={at('sites', m.site)} color="text.primary" sx={{ fontFamily: (t) => t.font.label, fontWeight: 700 }}>
        {m.site}
      </Link>
      <Typography variant="body2">
        <Ago at={m.noticed} />
        {withSource && `, ${m.source}`}
      </Typography>
      <Typography variant="mono">
        {m.old} → {m.new}
      </Typography>
      <Trail move={m} />
    </Box>
  )
}
