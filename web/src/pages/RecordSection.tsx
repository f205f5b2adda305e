import { Alert, Box, Button, Dialog, DialogActions, DialogContent, DialogTitle, Stack, Typography } from '@mui/material'
import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { api, type Device, type Hostname, type Link, type Service, type Site } from '../api'
import { Entry, type Blank } from '../parts/Entry'
import { Section } from '../parts/Sheet'
import { ports } from '../words'

type Form = { title: string; path: string; method: 'POST' | 'PATCH'; blanks: Blank[]; given: Record<string, string | number | boolean> }

const siteBlanks: Blank[] = [{ name: 'code', label: 'Site code' }, { name: 'name', label: 'Name' }, { name: 'note', label: 'Note for the next visit' }]
const linkBlanks: Blank[] = [
  { name: 'label', label: 'Label', help: 'Such as main or backup' }, { name: 'provider', label: 'Provider' },
  { name: 'mode', label: 'Address is', choices: ['dynamic', 'static'] },
  { name: 'position', label: 'Order of preference', kind: 'number', help: '1 is preferred' },
  { name: 'ipv4', label: 'IPv4 address', help: 'Of a static link only' }, { name: 'ipv6', label: 'IPv6 address', help: 'Of a static link only' },
]
const deviceBlanks: Blank[] = [
  { name: 'name', label: 'Name' }, { name: 'lan_address', label: 'LAN address' }, { name: 'mac', label: 'MAC address' },
  { name: 'reserved', label: 'The router always gives it this address', kind: 'yes' },
]

// forms says what is filled in for each kind of thing, and where it is sent.
function forms(s: Site) {
  const base = `/sites/${encodeURIComponent(s.code)}`
  const links = ['', ...s.links.map((l) => l.label)]
  const hostnameBlanks = (whole: boolean): Blank[] => [
    ...(whole ? [{ name: 'name', label: 'Name', help: `Such as ${s.code.toLowerCase()}.ZONE` }] : []),
    { name: 'link', label: 'Follows', choices: links }, { name: 'ttl_seconds', label: 'TTL in seconds', kind: 'number', help: "0 takes the zone's" },
  ]
  const serviceBlanks: Blank[] = [
    { name: 'name', label: 'Name' }, { name: 'device', label: 'Device', choices: s.devices.map((d) => d.name) },
    { name: 'external', label: 'External port or range', help: 'Such as 8443 or 5000-5003' },
    { name: 'internal', label: 'First port on the device', help: 'The same as outside where empty' },
    { name: 'expected', label: 'Must be', choices: ['reachable', 'closed'] }, { name: 'link', label: 'Reached by', choices: links },
    { name: 'interval_seconds', label: 'Seconds between probes', kind: 'number' },
  ]
  const edit = (title: string, path: string, blanks: Blank[], given: Form['given']): Form => ({ title, path: base + path, method: 'PATCH', blanks, given })
  return {
    site: () => edit(`Edit ${s.code}`, '', siteBlanks, { code: s.code, name: s.name, note: s.note }),
    link: (l?: Link): Form => l
      ? edit(`Edit link ${l.label}`, `/links/${l.label}`, linkBlanks, { label: l.label, provider: l.provider, mode: l.mode, position: l.position, ...(l.mode === 'static' ? { ipv4: l.ipv4 ?? '', ipv6: l.ipv6 ?? '' } : {}) })
      : { title: 'Add a link', path: base + '/links', method: 'POST', blanks: linkBlanks, given: { label: s.links.length ? '' : 'main', provider: '', mode: 'dynamic', position: s.links.length + 1, ipv4: '', ipv6: '' } },
    hostname: (h?: Hostname): Form => h
      ? { title: `Edit ${h.name}`, path: `/hostnames/${h.name}`, method: 'PATCH', blanks: hostnameBlanks(false), given: { link: h.link ?? '', ttl_seconds: h.ttl_seconds } }
      : { title: 'Add a hostname', path: '/hostnames', method: 'POST', blanks: hostnameBlanks(true), given: { name: '', site: s.code, link: '', ttl_seconds: 0 } },
    device: (d?: Device): Form => d
      ? edit(`Edit device ${d.name}`, `/devices/${d.name}`, deviceBlanks, { name: d.name, lan_address: d.lan_address, mac: d.mac, reserved: d.reserved })
      : { title: 'Add a device', path: base + '/devices', method: 'POST', blanks: deviceBlanks, given: { name: '', lan_address: '', mac: '', reserved: false } },
    service: (v?: Service): Form => v
      ? edit(`Edit service ${v.name}`, `/services/${v.name}`, serviceBlanks, { name: v.name, device: v.device, external: ports(v.external_from, v.external_to), internal: String(v.internal_from), expected: v.expected, link: v.link ?? '', interval_seconds: v.interval_seconds })
      : { title: 'Add a service', path: base + '/services', method: 'POST', blanks: serviceBlanks, given: { name: '', device: s.devices[0]?.name ?? '', external: '', internal: '', expected: 'reachable', link: '', interval_seconds: 60 } },
  }
}

interface Line { key: string; words: string; detail: string; edit: Form; path: string; extra?: { word: string; act: () => void } }

function Part({ title, lines, add, open, remove }: { title: string; lines: Line[]; add: Form; open: (f: Form) => void; remove: (l: { key: string; path: string }) => void }) {
  return (
    <Box sx={{ borderTop: (t) => t.rule.field, px: 2, py: 1 }}>
      <Stack direction="row" sx={{ alignItems: 'center' }}>
        <Typography variant="label" sx={{ flex: 1 }}>{title}</Typography>
        <Button size="small" color="inherit" onClick={() => open(add)}>{add.title}</Button>
      </Stack>
      {lines.map((l) => (
        <Stack key={l.key} direction="row" sx={{ alignItems: 'center', gap: 2, flexWrap: 'wrap' }}>
          <Typography sx={{ fontWeight: 600 }}>{l.words}</Typography>
          <Typography variant="mono" sx={{ flex: 1 }}>{l.detail}</Typography>
          {l.extra && <Button size="small" onClick={l.extra.act}>{l.extra.word}</Button>}
          <Button size="small" onClick={() => open(l.edit)} aria-label={`Edit ${l.key}`}>Edit</Button>
          <Button size="small" color="error" onClick={() => remove(l)} aria-label={`Remove ${l.key}`}>Remove</Button>
        </Stack>
      ))}
    </Box>
  )
}

// RecordSection is what is on record of a site, to read and to change.
export function RecordSection({ site: s }: { site: Site }) {
  const queries = useQueryClient()
  const go = useNavigate()
  const [form, setForm] = useState<Form | null>(null)
  const [doomed, setDoomed] = useState<{ key: string; path: string } | null>(null)
  const invite = useMutation({ mutationFn: (link: string) => api.invite(s.code, link) })
  const remove = useMutation({
    mutationFn: (path: string) => api.remove(path),
    onSuccess: async (_, path) => {
      setDoomed(null)
      if (path === base) return void go('/')
      await queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'session' })
    },
  })
  const f = forms(s)
  const base = `/sites/${encodeURIComponent(s.code)}`
  const doom = (l: { key: string; path: string }) => { remove.reset(); setDoomed(l) }
  const part = { open: setForm, remove: doom }
  return (
    <Section title="Record" id="record" aside={<>
      <Button size="small" color="inherit" onClick={() => setForm(f.site())}>Edit the site</Button>
      <Button size="small" color="error" onClick={() => doom({ key: s.code, path: base })}>Remove the site</Button>
    </>}>
      {invite.error && <Alert severity="error">{invite.error.message}</Alert>}
      {invite.data && <Alert severity="info">One-time code for the agent of link {invite.data.link}: <strong>{invite.data.code}</strong>. At the site: inkpost agent run --server {location.origin} --code {invite.data.code}</Alert>}
      <Part title="Links" add={f.link()} {...part} lines={s.links.map((l) => ({
        key: `link ${l.label}`, words: l.label, detail: [l.provider, l.mode, l.ipv4, l.ipv6].filter(Boolean).join(', '), edit: f.link(l), path: `${base}/links/${l.label}`,
        extra: l.mode === 'dynamic' ? { word: 'Invite an agent', act: () => invite.mutate(l.label) } : undefined,
      }))} />
      <Part title="Hostnames" add={f.hostname()} {...part} lines={s.hostnames.map((h) => ({
        key: h.name, words: h.state, detail: `${h.name}, follows ${h.link || 'the preferred link'}, TTL ${h.ttl_seconds} s`, edit: f.hostname(h), path: `/hostnames/${h.name}`,
      }))} />
      <Part title="Devices" add={f.device()} {...part} lines={s.devices.map((d) => ({
        key: `device ${d.name}`, words: d.name, detail: `${d.lan_address}, ${d.mac || 'no MAC'}, ${d.reserved ? 'reserved' : 'not reserved'}`, edit: f.device(d), path: `${base}/devices/${d.name}`,
      }))} />
      <Part title="Services" add={f.service()} {...part} lines={s.services.map((v) => ({
        key: `service ${v.name}`, words: v.name, detail: `${v.transport} ${ports(v.external_from, v.external_to)} → ${v.device} port ${v.internal_from}, ${v.expected}, every ${v.interval_seconds} s`, edit: f.service(v), path: `${base}/services/${v.name}`,
      }))} />
      {form && <Entry {...form} close={() => setForm(null)} done={(saved) => { if (form.path === base) void go(`/sites/${(saved as Site).code}`) }} />}
      {doomed && (
        <Dialog open onClose={() => setDoomed(null)}>
          <DialogTitle variant="h2">Remove {doomed.key}?</DialogTitle>
          <DialogContent>
            {remove.error && <Alert severity="error">{remove.error.message}</Alert>}
            <Typography>{doomed.path === base ? 'The site, its history and its hostnames go with it.' : 'This cannot be taken back.'}</Typography>
          </DialogContent>
          <DialogActions>
            <Button color="inherit" onClick={() => setDoomed(null)}>Keep it</Button>
            <Button color="error" variant="contained" disabled={remove.isPending} onClick={() => remove.mutate(doomed.path)}>Remove</Button>
          </DialogActions>
        </Dialog>
      )}
    </Section>
  )
}
