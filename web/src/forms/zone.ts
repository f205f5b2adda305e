import { at, tagOf, type Redirect, type Zone } from '../api'
import type { Blank } from './blank'
import type { Form } from '../parts/Part'
import { empty, fieldOf, suchAs, titles } from './fields'

const [ofZone, ofAlias, ofRedirect] = [fieldOf('zone'), fieldOf('alias'), fieldOf('redirect')]
const [ofRecord, ofKey] = [fieldOf('record'), fieldOf('signingKey')]

function zoneFields(kind: string, keys: string[]): Blank[] {
  const key = { choices: ['', ...keys], none: empty.key }
  const rare = { kind: 'number', seldom: true } as const
  const own =
    kind === 'remote'
      ? [
          ofZone('primary'),
          ofZone('primary_key', key),
          ofZone('transport', { choices: ['udp', 'tcp'] }),
          ofZone('reassert_seconds', { kind: 'number' }),
        ]
      : [
          ofZone('servers', { kind: 'list' }),
          ofZone('contact'),
          ofZone('notify', { kind: 'list' }),
          ofZone('transfer_key', key),
          ofZone('transfer_to', { kind: 'list', seldom: true }),
          ofZone('refresh_seconds', rare),
          ofZone('retry_seconds', rare),
          ofZone('expire_seconds', rare),
          ofZone('negative_seconds', rare),
        ]
  return [ofZone('ttl_seconds', { kind: 'number' }), ofZone('template'), ...own, ofZone('also_ask', { kind: 'list', seldom: true })]
}

// given is what stands in the fields of a zone's form; 0 takes the default.
function given(kind: string, z?: Zone): Form['given'] {
  const all = { ttl_seconds: z?.ttl_seconds ?? 30, template: z?.template ?? '', also_ask: z?.also_ask ?? [] }
  return kind === 'remote'
    ? {
        ...all,
        primary: z?.primary ?? '',
        primary_key: z?.primary_key ?? '',
        transport: z?.transport ?? 'udp',
        reassert_seconds: z?.reassert_seconds ?? 86400,
      }
    : {
        ...all,
        servers: z?.servers ?? [],
        contact: z?.contact ?? '',
        notify: z?.notify ?? [],
        transfer_key: z?.transfer_key ?? '',
        transfer_to: z?.transfer_to ?? [],
        refresh_seconds: z?.refresh_seconds ?? 0,
        retry_seconds: z?.retry_seconds ?? 0,
        expire_seconds: z?.expire_seconds ?? 0,
        negative_seconds: z?.negative_seconds ?? 0,
      }
}

export const editZone = (z: Zone, keys: string[]): Form => ({
  title: titles.edit(`zone ${z.apex}`),
  path: at('zones', z.apex),
  method: 'PATCH',
  blanks: zoneFields(z.kind, keys),
  given: given(z.kind, z),
  tag: tagOf(z),
})

export const newZone = (kind: 'hosted' | 'remote', keys: string[]): Form => ({
  title: kind === 'remote' ? titles.addRemote : titles.addHosted,
  path: '/zones',
  method: 'POST',
  blanks: [ofZone('apex'), ...zoneFields(kind, keys)],
  given: { apex: '', kind, ...given(kind) },
})

export const newAlias = (apex: string, hostnames?: string[]): Form => ({
  title: titles.addAlias,
  path: '/aliases',
  method: 'POST',
  given: { name: '', hostname: hostnames?.[0] ?? '', ttl_seconds: 0 },
  blanks: [ofAlias('name', { kind: 'name', help: suchAs(`museum.${apex}`) }), ofAlias('hostname', { choices: hostnames })],
})

const redirectFields = (hostnames?: string[]): Blank[] => [
  ofRedirect('hostname', { choices: hostnames }),
  ofRedirect('scheme', { choices: ['http', 'https'] }),
  ofRedirect('port', { kind: 'number' }),
  ofRedirect('path'),
  ofRedirect('keep_path', { kind: 'yes' }),
]

export const newRedirect = (apex: string, hostnames?: string[]): Form => ({
  title: titles.addRedirect,
  path: '/redirects',
  method: 'POST',
  given: { name: '', hostname: hostnames?.[0] ?? '', scheme: 'http', port: 0, path: '/', keep_path: false },
  blanks: [ofRedirect('name', { kind: 'name', help: suchAs(`view.${apex}`) }), ...redirectFields(hostnames)],
})

export const editRedirect = (r: Redirect, hostnames?: string[]): Form => ({
  title: titles.edit(r.name),
  path: at('redirects', r.name),
  method: 'PATCH',
  blanks: redirectFields(hostnames),
  given: { hostname: r.hostname, scheme: r.scheme, port: r.port ?? 0, path: r.path, keep_path: r.keep_path },
  tag: tagOf(r),
})

export const newRecord = (z: Zone): Form => ({
  title: titles.addRecord,
  path: at('zones', z.apex, 'records'),
  method: 'POST',
  given: { name: z.apex, type: 'TXT', ttl_seconds: z.ttl_seconds, data: '' },
  blanks: [ofRecord('name'), ofRecord('type'), ofRecord('ttl_seconds', { kind: 'number' }), ofRecord('data')],
})

export const newSigningKey = (sites: string[]): Form => ({
  title: titles.addSigningKey,
  path: '/signing-keys',
  method: 'POST',
  given: { name: '', algorithm: 'hmac-sha256', site: '', secret: '' },
  blanks: [
    ofKey('name'),
    ofKey('algorithm', { choices: ['hmac-sha256', 'hmac-sha512'] }),
    ofKey('site', { choices: ['', ...sites], none: empty.site }),
    ofKey('secret', { kind: 'secret' }),
  ],
})
