import { Alert, Box, Stack, Typography } from '@mui/material'
import type { ReactNode } from 'react'

// Sheet is a white page with a heavy rule on top of each section.
export function Section({ title, aside, children, id }: { title: string; aside?: ReactNode; children: ReactNode; id?: string }) {
  return (
    <Box component="section" id={id} sx={{ bgcolor: 'background.paper', borderTop: (t) => t.rule.section, mb: 2 }}>
      <Stack direction="row" sx={{ alignItems: 'center', gap: 2, px: 2, py: 1, flexWrap: 'wrap' }}>
        <Typography variant="h2" sx={{ flex: 1, whiteSpace: 'nowrap' }}>
          {title}
        </Typography>
        {aside}
      </Stack>
      {children}
    </Box>
  )
}

// Field is a box with a small label in the corner and a large value.
export function Field({ label, children, wide = false, tone }: { label: string; children: ReactNode; wide?: boolean; tone?: string }) {
  return (
    <Box
      sx={{
        border: (t) => t.rule.field,
        ml: '-1px',
        mt: '-1px',
        px: 1,
        py: 0.5,
        flexGrow: wide ? 2 : 1,
        flexBasis: wide ? { xs: '100%', sm: 0 } : 0,
        minWidth: (t) => t.draw.stationWidth,
      }}
    >
      <Typography variant="label" component="div">
        {label}
      </Typography>
      <Typography variant="value" component="div" sx={{ color: tone, overflowWrap: 'break-word' }}>
        {children}
      </Typography>
    </Box>
  )
}

export function Trouble({ error }: { error: Error | null }) {
  return error ? (
    <Alert severity="error" sx={{ mb: 2 }}>
      {error.message}
    </Alert>
  ) : null
}
