import { Breadcrumbs, Link, Typography } from '@mui/material'
import { Link as To } from 'react-router'
import { at } from '../api'
import { say } from '../catalogue'

// sites is where the list of sites is.
const sites: [string, string] = [say.sites.title, '/']

// Crumbs is the way back: pages that a page lies below, each a word and where it is, and the page itself.
export function Crumbs({ above = [sites], here }: { above?: [word: string, to: string][]; here: string }) {
  return (
    <Breadcrumbs aria-label={say.frame.way} sx={{ mb: 1 }}>
      {above.map(([word, to]) => (
        <Link key={to} component={To} to={to} color="text.primary">
          {word}
        </Link>
      ))}
      <Typography aria-current="page">{here}</Typography>
    </Breadcrumbs>
  )
}

// OfSite is the way back from a page below a site's.
export const OfSite = ({ code, here }: { code: string; here: string }) => <Crumbs above={[sites, [code, at('sites', code)]]} here={here} />
