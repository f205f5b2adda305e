import { Alert, Box, Button, Link, Stack } from '@mui/material'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { at, api, type SigningKey } from '../api'
import { say } from '../catalogue'
import { newSigningKey, newZone } from '../forms/zone'
import { Ago } from '../parts/Ago'
import { Entry } from '../parts/Entry'
import { Part, Removal, type Doomed, type Form, type Line } from '../parts/Part'
import { Section, Trouble } from '../parts/Sheet'
import { Titled } from '../parts/Titled'
import { ZoneSheet } from './ZoneSheet'

const words = say.names

const keyLine = (k: SigningKey): Line => ({
  key: k.name,
  words: k.site ? words.updatesOf(k.site) : words.transfers,
  detail: (
    <>
      {words.made(k.name, k.algorithm)}
      <Ago at={k.created} />
    </>
  ),
  path: at('signing-keys', k.name),
})

// NamesPage is every zone, and the keys that updates and transfers are signed with.
export function NamesPage() {
  const zones = useQuery({ queryKey: ['zones'], queryFn: api.zones })
  const aliases = useQuery({ queryKey: ['aliases'], queryFn: api.aliases })
  const redirects = useQuery({ queryKey: ['redirects'], queryFn: api.redirects })
  const keys = useQuery({ queryKey: ['signing-keys'], queryFn: api.signingKeys })
  const sites = useQuery({ queryKey: ['overview'], queryFn: api.overview })
  const [form, setForm] = useState<Form | null>(null)
  const [doomed, setDoomed] = useState<Doomed | null>(null)
  const [made, setMade] = useState<SigningKey | null>(null)
  const pushing = (keys.data ?? []).filter((k) => !k.site).map((k) => k.name)
  return (
    <>
      <Titled of={say.frame.names} />
      <Trouble error={zones.error} />
      <Stack direction="row" sx={{ gap: 1, mb: 1, flexWrap: 'wrap', alignItems: 'center' }}>
        {(zones.data ?? []).map((z) => (
          <Link key={z.apex} href={`#zone-${z.apex}`} variant="mono">
            {z.apex}
          </Link>
        ))}
        <Box sx={{ flex: 1 }} />
        <Button size="small" variant="outlined" onClick={() => setForm(newZone('hosted', pushing))}>
          {words.addHosted}
        </Button>
        <Button size="small" variant="outlined" onClick={() => setForm(newZone('remote', pushing))}>
          {words.addRemote}
        </Button>
      </Stack>
      {(zones.data ?? []).map((z) => (
        <ZoneSheet
          key={z.apex}
          zone={z}
          aliases={aliases.data ?? []}
          redirects={redirects.data ?? []}
          keys={pushing}
          open={setForm}
          remove={setDoomed}
        />
      ))}
      <Section title={words.keys} id="signing-keys">
        {made?.secret && (
          <Alert severity="info" onClose={() => setMade(null)}>
            {words.secret(made.name)}
            <strong>{made.secret}</strong>
          </Alert>
        )}
        <Part
          title={words.tsig}
          open={setForm}
          remove={setDoomed}
          lines={(keys.data ?? []).map(keyLine)}
          add={newSigningKey((sites.data?.sites ?? []).map((s) => s.code))}
        />
      </Section>
      {form && (
        <Entry
          {...form}
          close={() => setForm(null)}
          done={(saved) => {
            if (form.path === '/signing-keys') setMade(saved as SigningKey)
          }}
        />
      )}
      {doomed && <Removal doomed={doomed} keep={() => setDoomed(null)} removed={() => setDoomed(null)} />}
    </>
  )
}
