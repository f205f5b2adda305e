import { Box } from '@mui/material'
import { visuallyHidden } from '@mui/utils'
import { say } from '../catalogue'

// Titled names the page: in the tab, and, where the page does not show its name large, for those who hear it.
export function Titled({ of, shown = false }: { of: string; shown?: boolean }) {
  return (
    <>
      <title>{say.titled(of)}</title>
      {!shown && (
        <Box component="h1" sx={visuallyHidden}>
          {of}
        </Box>
      )}
    </>
  )
}
