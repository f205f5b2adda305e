import { Alert, Button } from '@mui/material'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { at, api, tagOf, type Hostname, type Site } from '../api'
import { say } from '../catalogue'
import { siteForms } from '../forms/site'
import { Entry } from '../parts/Entry'
import { Listed } from '../parts/Listed'
import { Part, type Form } from '../parts/Part'
import { useSession } from '../parts/session'
import { Section } from '../parts/Sheet'
import { exact, toneOf } from '../words'

const words = say.record

// RecordSection is what is on record of a site, to read and to change.
export function RecordSection({ site: s }: { site: Site }) {
  const go = useNavigate()
  const [form, setForm] = useState<Form | null>(null)
  const [listing, setListing] = useState(false)
  const may = useSession().role !== 'viewer'
  const invite = useMutation({ mutationFn: (link: string) => api.invite(s.code, link) })
  const routerKey = useMutation({ mutationFn: (link: string) => api.routerKey(s.code, link) })
  const hold = useMutation({ mutationFn: (h: Hostname) => api.hold(h.name, !h.hold_by) })
  const suggestion = useQuery({ queryKey: ['suggestion', s.code], queryFn: () => api.suggestName(s.code), retry: false })
  const kinds = useQuery({ queryKey: ['kinds'], queryFn: api.kinds, staleTime: Infinity })
  const f = siteForms(s, suggestion.data?.free ? suggestion.data.name : '', kinds.data ?? [])
  const base = at('sites', s.code)
  const part = { open: setForm }
  return (
    <Section
      title={words.title}
      id="record"
      aside={
        <Button
          size="small"
          color="inherit"
          onClick={() =>
            setForm({ ...f.site(), removal: { key: `site ${s.code}`, path: base, words: words.withIt, tag: tagOf(s), kind: 'site' } })
          }
        >
          {words.editSite}
        </Button>
      }
    >
      {invite.error && <Alert severity="error">{invite.error.message}</Alert>}
      {invite.data && (
        <Alert severity="info">
          {words.code(invite.data.link)}
          <strong>{invite.data.code}</strong>
          {words.atSite}
          {invite.data.server ?? location.origin}
          {words.withCode(invite.data.code)}
          {!invite.data.server && say.publicURL}
        </Alert>
      )}
      {routerKey.error && <Alert severity="error">{routerKey.error.message}</Alert>}
      {hold.error && <Alert severity="error">{hold.error.message}</Alert>}
      {routerKey.data && (
        <Alert severity="info">
          {words.routerFetches(routerKey.data.holder)}
          <strong>{`${routerKey.data.server ?? location.origin}/announce/${routerKey.data.secret}`}</strong>
          {words.routerMay}
        </Alert>
      )}
      <Part
        title={words.links}
        add={f.link()}
        {...part}
        lines={s.links.map((l) => ({
          key: `link ${l.label}`,
          kind: 'link',
          words: l.label,
          detail: [l.provider, l.mode, l.ipv4, l.ipv6, l.change_at && words.changes(exact(l.change_at))].filter(Boolean).join(', '),
          edit: f.link(l),
          path: base + at('links', l.label),
          tag: tagOf(l),
          extra:
            l.mode === 'dynamic'
              ? [
                  { word: words.invite, act: () => invite.mutate(l.label) },
                  { word: words.routerURL, act: () => routerKey.mutate(l.label) },
                  { word: words.plan, act: () => setForm(f.plan(l)) },
                ]
              : undefined,
        }))}
      />
      <Part
        title={words.hostnames}
        add={f.hostname()}
        {...part}
        lines={s.hostnames.map((h) => ({
          key: h.name,
          kind: 'hostname',
          words: h.state,
          tone: toneOf[h.verdict],
          edit: f.hostname(h),
          path: at('hostnames', h.name),
          tag: tagOf(h),
          detail: [
            h.shown ? `${h.shown} (${h.name})` : h.name,
            h.hold_at ? words.heldAt(h.hold_at) : words.follows(h.link || words.preferred),
            words.ttl(h.ttl_seconds),
            h.extras?.length && words.with(h.extras.join(', ')),
            h.held,
            ...(h.resolvers ?? []).filter((r) => r.differs).map((r) => words.gives(r.server, r.given)),
          ]
            .filter(Boolean)
            .join(', '),
          extra: [{ word: h.hold_by ? words.release : words.hold, act: () => hold.mutate(h) }],
        }))}
      />
      <Part
        title={words.devices}
        add={f.device()}
        aside={
          may && (
            <Button size="small" color="inherit" onClick={() => setListing(true)}>
              {say.listed.from}
            </Button>
          )
        }
        {...part}
        lines={s.devices.map((d) => ({
          key: `device ${d.name}`,
          kind: 'device',
          words: d.name,
          detail: [d.lan_address, d.mac || words.noMAC, d.reserved ? words.reserved : words.notReserved].join(', '),
          edit: f.device(d),
          path: base + at('devices', d.name),
          tag: tagOf(d),
        }))}
      />
      <Part
        title={words.services}
        add={f.service()}
        {...part}
        lines={s.services.map((v) => ({
          key: `service ${v.name}`,
          kind: 'service',
          words: v.name,
          detail: [
            v.kind,
            `${v.transport} ${v.external} → ${v.device} ${words.port(v.internal)}`,
            v.expected + (v.open_until ? words.until(exact(v.open_until)) : ''),
            words.every(v.interval_seconds),
          ].join(', '),
          edit: f.service(v),
          path: base + at('services', v.name),
          tag: tagOf(v),
        }))}
      />
      {listing && <Listed site={s.code} close={() => setListing(false)} />}
      {form && (
        <Entry
          {...form}
          close={() => setForm(null)}
          done={(saved) => {
            if (form.path === base) void go(at('sites', (saved as Site).code))
          }}
          gone={() => form.path === base && void go('/')}
        />
      )}
    </Section>
  )
}
