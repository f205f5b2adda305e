import { Box, Button, Link, Stack, Typography } from '@mui/material'
import { useMutation, useQueryClient } from '@tanstack/react-query'
import type { ReactNode } from 'react'
import { Link as To } from 'react-router'
import { api } from '../api'
import { say } from '../catalogue'
import type { Mode } from '../theme'
import { useSession } from './session'
import { Keys } from './Keys'
import { useLive } from './live'
import { Undoing } from './Undoing'

const words = say.frame

// Frame is what stands around every page: where you are, whether what you see is live, and the way out.
export function Frame({ mode, turn, children }: { mode: Mode; turn: () => void; children: ReactNode }) {
  const session = useSession()
  const queries = useQueryClient()
  const live = useLive()
  const leave = useMutation({
    mutationFn: api.signOut,
    onSettled: () => {
      queries.clear()
      location.assign('/')
    },
  })
  return (
    <Box sx={{ maxWidth: (t) => t.draw.column, mx: 'auto', px: { xs: 1, sm: 2 }, pb: 4 }}>
      <Stack component="header" direction="row" sx={{ alignItems: 'center', columnGap: { xs: 1, sm: 2 }, py: 1, flexWrap: 'wrap' }}>
        <Link component={To} to="/" color="text.primary" variant="value" underline="none">
          {say.product}
        </Link>
        {[
          ['/names', words.names],
          ['/moves', words.moves],
          ['/vantages', words.vantages],
          ['/causes', words.causes],
          ['/notices', words.notices],
          ['/people', words.people],
          ['/audit', words.audit],
          ...(session.role === 'owner' ? [['/settings', words.settings]] : []),
        ].map(([to, word]) => (
          <Link key={to} component={To} to={to} color="text.primary" underline="hover" sx={{ fontWeight: 600 }}>
            {word}
          </Link>
        ))}
        <Link href="/docs" color="text.primary" underline="hover" sx={{ fontWeight: 600 }}>
          {words.guides}
        </Link>
        <Typography variant="label" role="status" sx={{ color: live ? 'text.secondary' : 'error.main' }}>
          {live ? words.live : words.lost}
        </Typography>
        <Box sx={{ flex: 1 }} />
        <Button size="small" variant="text" color="inherit" onClick={turn}>
          {mode === 'day' ? words.night : words.day}
        </Button>
        <Link component={To} to="/account" color="text.primary" underline="hover">
          {session.name}
        </Link>
        <Button size="small" variant="text" color="inherit" onClick={() => leave.mutate()}>
          {words.signOut}
        </Button>
      </Stack>
      <Keys />
      <Undoing>
        <Box component="main">{children}</Box>
      </Undoing>
    </Box>
  )
}
