import { Alert, Button } from '@mui/material'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { api, nobodySaid, tagOf, type Device, type Hostname, type Link, type Service, type Site, type Trait } from '../api'
import { Entry, type Blank } from '../parts/Entry'
import { Part, Removal, type Doomed, type Form } from '../parts/Part'
import { Section } from '../parts/Sheet'
import { exact, toneOf } from '../words'

const siteBlanks: Blank[] = [
  { name: 'code', label: 'Site code' },
  { name: 'name', label: 'Name' },
  { name: 'note', label: 'Note for the next visit' },
]
const linkBlanks: Blank[] = [
  { name: 'label', label: 'Label', help: 'Such as main or backup' },
  { name: 'provider', label: 'Provider' },
  { name: 'mode', label: 'Address type', choices: ['dynamic', 'static'] },
  { name: 'position', label: 'Order of preference', kind: 'number', help: '1 is preferred' },
  { name: 'ipv4', label: 'IPv4 address', help: 'Static links only' },
  { name: 'ipv6', label: 'IPv6 address', help: 'Static links only' },
  { name: 'router_address', label: "Router's WAN address", help: 'From its status page, where no protocol reports it' },
  { name: 'dynamic_range', label: 'DHCP range', help: 'Such as 192.168.7.100-192.168.7.199' },
  {
    name: 'sources',
    label: 'Address sources',
    kind: 'list',
    help: 'The most trusted first: observed, stun, gateway, interface, fixed. Empty: all',
  },
]
const deviceBlanks: Blank[] = [
  { name: 'name', label: 'Name' },
  { name: 'lan_address', label: 'LAN address' },
  { name: 'mac', label: 'MAC address' },
  { name: 'reserved', label: 'Reserved in the router (always this address)', kind: 'yes' },
  { name: 'router', label: "It is the site's router", kind: 'yes' },
]

// forms says what is filled in for each kind of thing, and where it is sent.
function forms(s: Site, suggested: string, kinds: Trait[]) {
  const base = `/sites/${encodeURIComponent(s.code)}`
  const links = ['', ...s.links.map((l) => l.label)]
  const hostnameBlanks = (whole: boolean): Blank[] => [
    ...(whole ? [{ name: 'name', label: 'Name', kind: 'name' as const, help: `Such as ${s.code.toLowerCase()}.ZONE` }] : []),
    { name: 'link', label: 'Follows', choices: links },
    { name: 'ttl_seconds', label: 'TTL in seconds', kind: 'number', help: "0 takes the zone's" },
    { name: 'extras', label: 'Further labels', kind: 'list', help: 'With the same addresses: www, mail, or * for any other' },
    { name: 'mail', label: 'Mail host' },
    { name: 'device', label: 'Device whose IPv6 address is the AAAA', choices: ['', ...s.devices.map((d) => d.name)] },
  ]
  const serviceBlanks: Blank[] = [
    { name: 'name', label: 'Name' },
    { name: 'device', label: 'Device', choices: s.devices.map((d) => d.name) },
    { name: 'kind', label: 'Kind', choices: kinds.map((k) => k.kind), help: 'What it speaks, which decides how it is probed' },
    { name: 'transport', label: 'Transport', choices: ['', 'tcp', 'udp', 'both'], none: "the kind's usual" },
    { name: 'external', label: 'External port or range', help: 'Such as 8443 or 5000-5003' },
    { name: 'internal', label: 'First port on the device', help: 'Empty: the same as outside' },
    { name: 'expected', label: 'Expected', choices: ['reachable', 'closed'] },
    {
      name: 'reach',
      label: 'Transport',
      choices: ['forward', 'pinhole', 'both'],
      help: 'A forward (IPv4), a pinhole to the device itself (IPv6), or both',
    },
    { name: 'link', label: 'Reached by', choices: links },
    { name: 'interval_seconds', label: 'Probe interval (seconds)', kind: 'number' },
    {
      name: 'options',
      label: 'Options',
      kind: 'pairs',
      choices: [...new Set(kinds.flatMap((k) => k.options ?? []))],
      help: 'Such as path=/live, status=200, text=Welcome; for WireGuard peer_key=KEY',
    },
    { name: 'open_until', label: 'Open until', kind: 'time', help: 'Afterwards the port must be closed. Empty: no end.' },
  ]
  const edit = (title: string, path: string, blanks: Blank[], given: Form['given'], of: { id: number; revision: number }): Form => ({
    title,
    path: base + path,
    method: 'PATCH',
    blanks,
    given,
    tag: tagOf(of),
  })
  return {
    site: () => edit(`Edit ${s.code}`, '', siteBlanks, { code: s.code, name: s.name, note: s.note }, s),
    link: (l?: Link): Form =>
      l
        ? edit(
            `Edit link ${l.label}`,
            `/links/${l.label}`,
            linkBlanks,
            {
              label: l.label,
              provider: l.provider,
              mode: l.mode,
              position: l.position,
              router_address: l.router_address ?? '',
              dynamic_range: l.dynamic_range ?? '',
              sources: l.sources ?? [],
              ...(l.mode === 'static' ? { ipv4: l.ipv4 ?? '', ipv6: l.ipv6 ?? '' } : {}),
            },
            l,
          )
        : {
            title: 'Add a link',
            path: base + '/links',
            method: 'POST',
            blanks: linkBlanks,
            given: {
              label: s.links.length ? '' : 'main',
              provider: '',
              mode: 'dynamic',
              position: s.links.length + 1,
              ipv4: '',
              ipv6: '',
              router_address: '',
              dynamic_range: '',
              sources: '',
            },
          },
    hostname: (h?: Hostname): Form =>
      h
        ? {
            title: `Edit ${h.name}`,
            path: `/hostnames/${h.name}`,
            method: 'PATCH',
            blanks: hostnameBlanks(false),
            given: { link: h.link ?? '', ttl_seconds: h.ttl_seconds, extras: h.extras ?? [], mail: h.mail ?? '', device: h.device ?? '' },
            tag: tagOf(h),
          }
        : {
            title: 'Add a hostname',
            path: '/hostnames',
            method: 'POST',
            blanks: hostnameBlanks(true),
            given: { name: suggested, site: s.code, link: '', ttl_seconds: 0, extras: '', mail: '', device: '' },
          },
    plan: (l: Link): Form =>
      edit(
        `When will link ${l.label} change?`,
        `/links/${l.label}`,
        [
          {
            name: 'change_at',
            label: 'The provider changes the address at',
            kind: 'time',
            help: 'TTLs are lowered ahead of it. Empty: nothing is planned.',
          },
        ],
        { change_at: l.change_at ?? '' },
        l,
      ),
    device: (d?: Device): Form =>
      d
        ? edit(
            `Edit device ${d.name}`,
            `/devices/${d.name}`,
            deviceBlanks,
            { name: d.name, lan_address: d.lan_address ?? '', mac: d.mac ?? '', reserved: d.reserved, router: d.router ?? false },
            d,
          )
        : {
            title: 'Add a device',
            path: base + '/devices',
            method: 'POST',
            blanks: deviceBlanks,
            given: { name: '', lan_address: '', mac: '', reserved: false, router: false },
          },
    service: (v?: Service): Form =>
      v
        ? edit(
            `Edit service ${v.name}`,
            `/services/${v.name}`,
            serviceBlanks,
            {
              name: v.name,
              device: v.device,
              external: v.external,
              internal: v.internal,
              kind: v.kind,
              transport: v.transport,
              expected: v.expected,
              reach: v.reach ?? 'forward',
              link: v.link ?? '',
              interval_seconds: v.interval_seconds,
              options: v.options ?? {},
              open_until: v.open_until ?? '',
            },
            v,
          )
        : {
            title: 'Add a service',
            path: base + '/services',
            method: 'POST',
            blanks: serviceBlanks,
            given: {
              name: '',
              device: s.devices[0]?.name ?? '',
              external: '',
              internal: '',
              kind: 'tcp',
              transport: '',
              expected: 'reachable',
              reach: 'forward',
              link: '',
              interval_seconds: 60,
              options: '',
              open_until: '',
            },
          },
  }
}

// RecordSection is what is on record of a site, to read and to change.
export function RecordSection({ site: s }: { site: Site }) {
  const go = useNavigate()
  const [form, setForm] = useState<Form | null>(null)
  const [doomed, setDoomed] = useState<Doomed | null>(null)
  const invite = useMutation({ mutationFn: (link: string) => api.invite(s.code, link) })
  const routerKey = useMutation({ mutationFn: (link: string) => api.routerKey(s.code, link) })
  const keep = useMutation({ mutationFn: (h: Hostname) => api.hold(h.name, !h.hold_by) })
  const suggestion = useQuery({ queryKey: ['suggestion', s.code], queryFn: () => api.suggestName(s.code), retry: false })
  const kinds = useQuery({ queryKey: ['kinds'], queryFn: api.kinds, staleTime: Infinity })
  const f = forms(s, suggestion.data?.free ? suggestion.data.name : '', kinds.data ?? [])
  const base = `/sites/${encodeURIComponent(s.code)}`
  const part = { open: setForm, remove: setDoomed }
  return (
    <Section
      title="Record"
      id="record"
      aside={
        <>
          <Button size="small" color="inherit" onClick={() => setForm(f.site())}>
            Edit the site
          </Button>
          <Button
            size="small"
            color="error"
            onClick={() =>
              setDoomed({ key: s.code, path: base, words: 'Its history and its hostnames are removed with it.', tag: tagOf(s) })
            }
          >
            Remove the site
          </Button>
        </>
      }
    >
      {invite.error && <Alert severity="error">{invite.error.message}</Alert>}
      {invite.data && (
        <Alert severity="info">
          One-time code for the agent of link {invite.data.link}: <strong>{invite.data.code}</strong>. At the site: inkpost agent run
          --server {invite.data.server ?? location.origin} --code {invite.data.code}
          {!invite.data.server && nobodySaid}
        </Alert>
      )}
      {routerKey.error && <Alert severity="error">{routerKey.error.message}</Alert>}
      {keep.error && <Alert severity="error">{keep.error.message}</Alert>}
      {routerKey.data && (
        <Alert severity="info">
          The router of {routerKey.data.holder} announces by fetching this, shown once:{' '}
          <strong>
            {routerKey.data.server ?? location.origin}/announce/{routerKey.data.secret}
          </strong>
          . Behind it may stand ?ipv4=ADDRESS, &amp;ipv6=ADDRESS, &amp;name=HOSTNAME or &amp;except=HOSTNAME.
        </Alert>
      )}
      <Part
        title="Links"
        add={f.link()}
        {...part}
        lines={s.links.map((l) => ({
          key: `link ${l.label}`,
          words: l.label,
          detail: [l.provider, l.mode, l.ipv4, l.ipv6, l.change_at && `changes ${exact(l.change_at)}`].filter(Boolean).join(', '),
          edit: f.link(l),
          path: `${base}/links/${l.label}`,
          tag: tagOf(l),
          extra:
            l.mode === 'dynamic'
              ? [
                  { word: 'Invite an agent', act: () => invite.mutate(l.label) },
                  { word: 'Router URL', act: () => routerKey.mutate(l.label) },
                  { word: 'Plan a change', act: () => setForm(f.plan(l)) },
                ]
              : undefined,
        }))}
      />
      <Part
        title="Hostnames"
        add={f.hostname()}
        {...part}
        lines={s.hostnames.map((h) => ({
          key: h.name,
          words: h.state,
          tone: toneOf[h.verdict],
          edit: f.hostname(h),
          path: `/hostnames/${h.name}`,
          tag: tagOf(h),
          detail: [
            h.shown ? `${h.shown} (${h.name})` : h.name,
            h.hold_at ? `held at ${h.hold_at}` : `follows ${h.link || 'the preferred link'}`,
            `TTL ${h.ttl_seconds} s`,
            h.extras?.length && `with ${h.extras.join(', ')}`,
            h.held,
            ...(h.resolvers ?? []).filter((r) => r.differs).map((r) => `${r.server} gives ${r.given}`),
          ]
            .filter(Boolean)
            .join(', '),
          extra: [{ word: h.hold_by ? 'Release it' : 'Hold it here', act: () => keep.mutate(h) }],
        }))}
      />
      <Part
        title="Devices"
        add={f.device()}
        {...part}
        lines={s.devices.map((d) => ({
          key: `device ${d.name}`,
          words: d.name,
          detail: `${d.lan_address}, ${d.mac || 'no MAC'}, ${d.reserved ? 'reserved' : 'not reserved'}`,
          edit: f.device(d),
          path: `${base}/devices/${d.name}`,
          tag: tagOf(d),
        }))}
      />
      <Part
        title="Services"
        add={f.service()}
        {...part}
        lines={s.services.map((v) => ({
          key: `service ${v.name}`,
          words: v.name,
          detail: `${v.kind}, ${v.transport} ${v.external} → ${v.device} port ${v.internal}, ${v.expected}${v.open_until ? ` until ${exact(v.open_until)}` : ''}, every ${v.interval_seconds} s`,
          edit: f.service(v),
          path: `${base}/services/${v.name}`,
          tag: tagOf(v),
        }))}
      />
      {form && (
        <Entry
          {...form}
          close={() => setForm(null)}
          done={(saved) => {
            if (form.path === base) void go(`/sites/${(saved as Site).code}`)
          }}
        />
      )}
      {doomed && (
        <Removal
          doomed={doomed}
          keep={() => setDoomed(null)}
          removed={() => {
            setDoomed(null)
            if (doomed.path === base) void go('/')
          }}
        />
      )}
    </Section>
  )
}
