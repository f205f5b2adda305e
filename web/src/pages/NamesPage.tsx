import { Alert, Box, Button, Link, Stack, Typography } from '@mui/material'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as To } from 'react-router'
import { api, tagOf, type Alias, type Difference, type Hostname, type Push, type Redirect, type SigningKey, type Zone } from '../api'
import { Ago } from '../parts/Ago'
import { Entry, type Blank } from '../parts/Entry'
import { Part, Removal, type Doomed, type Form, type Line } from '../parts/Part'
import { Field, Section, Trouble } from '../parts/Sheet'
import { toneOf } from '../words'

const zoneBlanks = (kind: string, keys: string[]): Blank[] => [
  { name: 'ttl_seconds', label: 'TTL in seconds', kind: 'number' },
  { name: 'template', label: "Template of a site's first name", help: 'Such as {code}.ZONE; {name} and {n} work, too' },
  ...(kind === 'remote'
    ? [
        { name: 'primary', label: 'Primary', help: 'ADDRESS or ADDRESS:PORT' },
        { name: 'primary_key', label: 'Signing key', choices: ['', ...keys], none: 'no key' },
        { name: 'transport', label: 'Updates over', choices: ['udp', 'tcp'] },
        { name: 'reassert_seconds', label: 'Push again after (seconds)', kind: 'number' as const },
      ]
    : [
        { name: 'servers', label: 'Name servers', kind: 'list' as const, help: 'NAME or NAME=ADDRESS, separated by commas' },
        { name: 'contact', label: 'Contact (mail address)' },
        { name: 'notify', label: 'Secondaries to notify', kind: 'list' as const, help: 'ADDRESS or ADDRESS:PORT' },
        { name: 'transfer_key', label: 'Transfers allowed with key', choices: ['', ...keys], none: 'no key' },
        {
          name: 'transfer_to',
          label: 'Transfers allowed to',
          kind: 'list' as const,
          help: 'Addresses and prefixes, separated by commas',
          seldom: true,
        },
        { name: 'refresh_seconds', label: 'Refresh (seconds)', kind: 'number' as const, seldom: true },
        { name: 'retry_seconds', label: 'Retry (seconds)', kind: 'number' as const, seldom: true },
        { name: 'expire_seconds', label: 'Expire (seconds)', kind: 'number' as const, seldom: true },
        { name: 'negative_seconds', label: 'Negative answers are cached (seconds)', kind: 'number' as const, seldom: true },
      ]),
  { name: 'also_ask', label: 'Other servers to check', kind: 'list', help: 'ADDRESS or ADDRESS:PORT', seldom: true },
]

function zoneForm(z: Zone, keys: string[]): Form {
  const given: Form['given'] =
    z.kind === 'remote'
      ? {
          primary: z.primary ?? '',
          primary_key: z.primary_key ?? '',
          transport: z.transport ?? 'udp',
          reassert_seconds: z.reassert_seconds ?? 86400,
        }
      : {
          servers: z.servers,
          contact: z.contact,
          notify: z.notify ?? [],
          transfer_key: z.transfer_key ?? '',
          transfer_to: z.transfer_to ?? [],
          refresh_seconds: z.refresh_seconds,
          retry_seconds: z.retry_seconds,
          expire_seconds: z.expire_seconds,
          negative_seconds: z.negative_seconds,
        }
  return {
    title: `Edit zone ${z.apex}`,
    path: `/zones/${z.apex}`,
    method: 'PATCH',
    blanks: zoneBlanks(z.kind, keys),
    given: { ttl_seconds: z.ttl_seconds, template: z.template ?? '', also_ask: z.also_ask ?? [], ...given },
    tag: tagOf(z),
  }
}

const newZone = (kind: string, keys: string[]): Form => ({
  title: kind === 'remote' ? 'Add a remote zone' : 'Add a hosted zone',
  path: '/zones',
  method: 'POST',
  blanks: [{ name: 'apex', label: 'Zone', help: 'Such as isles.saltmarsh.example' }, ...zoneBlanks(kind, keys)],
  given:
    kind === 'remote'
      ? {
          apex: '',
          kind,
          ttl_seconds: 30,
          template: '',
          also_ask: '',
          primary: '',
          primary_key: '',
          transport: 'udp',
          reassert_seconds: 86400,
        }
      : {
          apex: '',
          kind,
          ttl_seconds: 30,
          template: '',
          also_ask: '',
          servers: '',
          contact: '',
          notify: '',
          transfer_key: '',
          transfer_to: '',
          refresh_seconds: 0,
          retry_seconds: 0,
          expire_seconds: 0,
          negative_seconds: 0,
        }, // 0 takes the default
})

function hostnameLine(h: Hostname, push?: Push): Line {
  const differ = (h.resolvers ?? []).filter((r) => r.differs).map((r) => `${r.server} gives ${r.given}`)
  const note = h.held ?? (differ.length ? differ.join(', ') : '')
  return {
    key: h.name,
    words: h.state,
    tone: toneOf[h.verdict],
    path: `/hostnames/${h.name}`,
    tag: tagOf(h),
    detail: (
      <>
        {h.shown ? `${h.shown} (${h.name})` : h.name} → {h.given || '-'},{' '}
        {h.hold_at ? `held at ${h.hold_at}` : `follows ${h.link ? `link ${h.link}` : 'the preferred link'}`} of{' '}
        <Link component={To} to={`/sites/${h.site}`}>
          {h.site}
        </Link>
        {push?.taken && (
          <>
            , taken <Ago at={push.taken} />
          </>
        )}
        {note && (
          <Box component="span" sx={{ color: 'error.main' }}>
            : {note}
          </Box>
        )}
      </>
    ),
  }
}

const aliasLine = (a: Alias): Line => ({
  key: a.name,
  words: a.same ? 'the same' : a.given ? 'differs' : 'not asked yet',
  tone: toneOf[a.verdict],
  path: `/aliases/${a.name}`,
  tag: tagOf(a),
  detail: [
    `${a.name} stands for ${a.hostname}`,
    a.same || a.given === a.hostname_given
      ? `both give ${a.given || '-'}`
      : `it gives ${a.given || '-'}, the hostname ${a.hostname_given || '-'}`,
    ...(a.resolvers ?? []).filter((r) => r.differs).map((r) => `${r.server} still gives ${r.given}`),
  ].join(', '),
})

const redirectBlanks = (hostnames: string[]): Blank[] => [
  { name: 'hostname', label: 'Leads to', choices: hostnames },
  { name: 'scheme', label: 'Scheme', choices: ['http', 'https'] },
  { name: 'port', label: 'Port', kind: 'number', help: "0 takes the scheme's own" },
  { name: 'path', label: 'Path' },
  { name: 'keep_path', label: 'Append the requested path', kind: 'yes' },
]

const redirectLine = (r: Redirect, hostnames: string[]): Line => ({
  key: r.name,
  words: String(r.status),
  detail: `${r.name} → ${r.leads}${r.keep_path ? ' and the path asked for' : ''}`,
  path: `/redirects/${r.name}`,
  tag: tagOf(r),
  edit: {
    title: `Edit ${r.name}`,
    path: `/redirects/${r.name}`,
    method: 'PATCH',
    blanks: redirectBlanks(hostnames),
    given: { hostname: r.hostname, scheme: r.scheme, port: r.port ?? 0, path: r.path, keep_path: r.keep_path },
    tag: tagOf(r),
  },
})

function Differences({ list }: { list: Difference[] }) {
  if (list.length === 0) return <Alert severity="success">The primary is up to date.</Alert>
  return (
    <Box sx={{ px: 2, py: 1, borderTop: (t) => t.rule.field }}>
      <Typography variant="label">What a push would change (nothing is pushed yet)</Typography>
      {list.map((d) => (
        <Typography key={d.name + d.type} variant="mono" component="div">
          {d.name} {d.type}:{' '}
          <Box component="del" sx={{ color: 'error.main' }}>
            {(d.now ?? []).join(', ') || 'nothing'}
          </Box>{' '}
          →{' '}
          <Box component="ins" sx={{ color: 'success.main' }}>
            {(d.want ?? []).join(', ') || 'nothing'}
          </Box>
        </Typography>
      ))}
    </Box>
  )
}

function ZoneSheet({
  z,
  hostnames,
  aliases,
  redirects,
  keys,
  open,
  doom,
}: {
  z: Zone
  hostnames: Hostname[]
  aliases: Alias[]
  redirects: Redirect[]
  keys: string[]
  open: (f: Form) => void
  doom: (d: Doomed) => void
}) {
  const remote = z.kind === 'remote'
  const pushes = useQuery({ queryKey: ['pushes', z.apex], queryFn: () => api.pushes(z.apex), enabled: remote })
  const records = useQuery({ queryKey: ['records', z.apex], queryFn: () => api.records(z.apex) })
  const differences = useMutation({ mutationFn: () => api.differences(z.apex) })
  const push = useMutation({ mutationFn: () => api.push(z.apex), onSuccess: () => pushes.refetch() })
  const all = hostnames.map((h) => h.name)
  const here = hostnames.filter((h) => h.zone === z.apex)
  const waiting = (pushes.data ?? []).filter((p) => p.state !== 'taken')
  return (
    <Section
      title={z.apex}
      id={`zone-${z.apex}`}
      aside={
        <>
          {remote && (
            <Button size="small" variant="outlined" disabled={differences.isPending} onClick={() => differences.mutate()}>
              What would change
            </Button>
          )}
          {remote && (
            <Button size="small" variant="outlined" disabled={push.isPending} onClick={() => push.mutate()}>
              {z.pushing ? 'Push now' : 'Start pushing'}
            </Button>
          )}
          <Button size="small" component="a" href={`/api/v1/zones/${z.apex}/file`} color="inherit">
            Zone file
          </Button>
          <Button size="small" color="inherit" onClick={() => open(zoneForm(z, keys))} aria-label={`Edit zone ${z.apex}`}>
            Edit
          </Button>
          <Button
            size="small"
            color="error"
            onClick={() => doom({ key: `zone ${z.apex}`, path: `/zones/${z.apex}`, tag: tagOf(z) })}
            aria-label={`Remove zone ${z.apex}`}
          >
            Remove
          </Button>
        </>
      }
    >
      <Box sx={{ display: 'flex', flexWrap: 'wrap', px: 2, pb: 1, pl: '17px', pt: '1px' }}>
        <Field label="kind">{z.kind}</Field>
        {remote ? (
          <>
            <Field label="primary">{z.primary}</Field>
            <Field label="names" tone={waiting.length ? 'error.main' : 'success.main'}>
              {!z.pushing
                ? 'not pushed yet'
                : waiting.length
                  ? `${waiting.length} of ${pushes.data?.length} wait`
                  : `all ${pushes.data?.length ?? ''} taken`}
            </Field>
          </>
        ) : (
          <>
            <Field label="serial">{z.serial}</Field>
            <Field label="name servers" wide>
              {z.servers.map((s) => s.split('=')[0]).join(' ')}
            </Field>
          </>
        )}
        <Field label="TTL">{z.ttl_seconds} s</Field>
      </Box>
      {(push.error ?? differences.error) && <Alert severity="error">{(push.error ?? differences.error)!.message}</Alert>}
      {differences.data && <Differences list={differences.data} />}
      {waiting
        .filter((p) => p.detail)
        .map((p) => (
          <Alert key={p.name} severity="error">
            {p.name}: {p.state} after {p.tries} tries: {p.detail}
          </Alert>
        ))}
      <Part
        title="Hostnames"
        open={open}
        remove={doom}
        lines={here.map((h) =>
          hostnameLine(
            h,
            pushes.data?.find((p) => p.name === h.name),
          ),
        )}
      />
      <Part
        title="Aliases"
        open={open}
        remove={doom}
        lines={aliases.filter((a) => a.zone === z.apex).map(aliasLine)}
        add={{
          title: 'Add an alias',
          path: '/aliases',
          method: 'POST',
          given: { name: '', hostname: all[0] ?? '', ttl_seconds: 0 },
          blanks: [
            { name: 'name', label: 'Name', kind: 'name', help: `Such as museum.${z.apex}` },
            { name: 'hostname', label: 'Stands for', choices: all },
          ],
        }}
      />
      <Part
        title="Redirects"
        open={open}
        remove={doom}
        lines={redirects.filter((r) => r.zone === z.apex).map((r) => redirectLine(r, all))}
        add={{
          title: 'Add a redirect',
          path: '/redirects',
          method: 'POST',
          given: { name: '', hostname: all[0] ?? '', scheme: 'http', port: 0, path: '/', keep_path: false },
          blanks: [{ name: 'name', label: 'Name', kind: 'name', help: `Such as view.${z.apex}` }, ...redirectBlanks(all)],
        }}
      />
      <Part
        title="Records beside them"
        open={open}
        remove={doom}
        lines={(records.data ?? []).map((r) => ({
          key: `record ${r.id}`,
          words: r.type,
          detail: `${r.name} ${r.ttl_seconds} s ${r.data}`,
          path: `/zones/${z.apex}/records/${r.id}`,
        }))}
        add={{
          title: 'Add a record',
          path: `/zones/${z.apex}/records`,
          method: 'POST',
          given: { name: z.apex, type: 'TXT', ttl_seconds: z.ttl_seconds, data: '' },
          blanks: [
            { name: 'name', label: 'Name' },
            { name: 'type', label: 'Type', help: 'A, AAAA, CNAME, MX, TXT, SRV, CAA and others' },
            { name: 'ttl_seconds', label: 'TTL in seconds', kind: 'number' },
            { name: 'data', label: 'Data', help: 'As in a zone file' },
          ],
        }}
      />
    </Section>
  )
}

const keyLine = (k: SigningKey): Line => ({
  key: k.name,
  words: k.site ? `updates of ${k.site}` : 'transfers, pushes',
  detail: (
    <>
      {k.name}, {k.algorithm}, made <Ago at={k.created} />
    </>
  ),
  path: `/signing-keys/${k.name}`,
})

// NamesPage is every zone with all that stands in it, and how it goes with what is pushed elsewhere.
export function NamesPage() {
  const zones = useQuery({ queryKey: ['zones'], queryFn: api.zones })
  const hostnames = useQuery({ queryKey: ['hostnames'], queryFn: api.hostnames })
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
      <Trouble error={zones.error ?? hostnames.error} />
      <Stack direction="row" sx={{ gap: 1, mb: 1, flexWrap: 'wrap', alignItems: 'center' }}>
        {(zones.data ?? []).map((z) => (
          <Link key={z.apex} href={`#zone-${z.apex}`} variant="mono">
            {z.apex}
          </Link>
        ))}
        <Box sx={{ flex: 1 }} />
        <Button size="small" variant="outlined" onClick={() => setForm(newZone('hosted', pushing))}>
          Add a hosted zone
        </Button>
        <Button size="small" variant="outlined" onClick={() => setForm(newZone('remote', pushing))}>
          Add a remote zone
        </Button>
      </Stack>
      {(zones.data ?? []).map((z) => (
        <ZoneSheet
          key={z.apex}
          z={z}
          hostnames={hostnames.data ?? []}
          aliases={aliases.data ?? []}
          redirects={redirects.data ?? []}
          keys={pushing}
          open={setForm}
          doom={setDoomed}
        />
      ))}
      <Section title="Signing keys" id="signing-keys">
        {made?.secret && (
          <Alert severity="info" onClose={() => setMade(null)}>
            Secret of {made.name}, shown once: <strong>{made.secret}</strong>
          </Alert>
        )}
        <Part
          title="TSIG keys"
          open={setForm}
          remove={setDoomed}
          lines={(keys.data ?? []).map(keyLine)}
          add={{
            title: 'Add a signing key',
            path: '/signing-keys',
            method: 'POST',
            given: { name: '', algorithm: 'hmac-sha256', site: '', secret: '' },
            blanks: [
              { name: 'name', label: 'Name' },
              { name: 'algorithm', label: 'Algorithm', choices: ['hmac-sha256', 'hmac-sha512'] },
              {
                name: 'site',
                label: 'May update the hostnames of',
                choices: ['', ...(sites.data?.sites ?? []).map((s) => s.code)],
                none: 'no site: for transfers and pushes',
              },
              { name: 'secret', label: 'Secret in base64', kind: 'secret', help: 'Empty: a new one is made' },
            ],
          }}
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
