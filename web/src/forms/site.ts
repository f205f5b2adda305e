import { at, tagOf, type Device, type Hostname, type Link, type Service, type Site, type Trait } from '../api'
import type { Blank } from './blank'
import type { Form } from '../parts/Part'
import { empty, fieldOf, suchAs, titles } from './fields'

const [ofSite, ofLink, ofHostname] = [fieldOf('site'), fieldOf('link'), fieldOf('hostname')]
const [ofDevice, ofService] = [fieldOf('device'), fieldOf('service')]

const siteFields: Blank[] = [ofSite('code'), ofSite('name'), ofSite('note'), ofSite('router'), ofSite('tags', { kind: 'list' })]

const linkFields: Blank[] = [
  ofLink('label'),
  ofLink('provider'),
  ofLink('contract'),
  ofLink('mode', { choices: ['dynamic', 'static'] }),
  ofLink('position', { kind: 'number' }),
  ofLink('ipv4'),
  ofLink('ipv6'),
  ofLink('router_address'),
  ofLink('dynamic_range'),
  ofLink('sources', { kind: 'list' }),
  ofLink('may_map', { kind: 'yes' }),
]

const deviceFields: Blank[] = [
  ofDevice('name'),
  ofDevice('lan_address'),
  ofDevice('mac'),
  ofDevice('reserved', { kind: 'yes' }),
  ofDevice('router', { kind: 'yes' }),
]

export const newSite: Form = {
  title: titles.addSite,
  path: '/sites',
  method: 'POST',
  blanks: siteFields,
  given: { code: '', name: '', note: '', router: '', tags: [] },
}

// siteForms says what is filled in for each kind of thing at a site, and where it is sent. A kind that is given is edited, else added.
export function siteForms(s: Site, suggested: string, kinds: Trait[]) {
  const base = at('sites', s.code)
  const links = ['', ...s.links.map((l) => l.label)]
  const hostnameFields: Blank[] = [
    ofHostname('link', { choices: links }),
    ofHostname('ttl_seconds', { kind: 'number' }),
    ofHostname('extras', { kind: 'list' }),
    ofHostname('mail'),
    ofHostname('device', { choices: ['', ...s.devices.map((d) => d.name)] }),
  ]
  const serviceFields: Blank[] = [
    ofService('name'),
    ofService('device', { choices: s.devices.map((d) => d.name) }),
    ofService('kind', { choices: kinds.map((k) => k.kind) }),
    ofService('transport', { choices: ['', 'tcp', 'udp', 'both'], none: empty.transport }),
    ofService('external'),
    ofService('internal'),
    ofService('expected', { choices: ['reachable', 'closed'] }),
    ofService('reach', { choices: ['forward', 'pinhole', 'both'] }),
    ofService('link', { choices: links }),
    ofService('interval_seconds', { kind: 'number' }),
    ofService('options', { kind: 'pairs', choices: [...new Set(kinds.flatMap((k) => k.options ?? []))] }),
    ofService('open_until', { kind: 'time' }),
    ofService('in_use', { kind: 'yes' }),
  ]
  const edit = (what: string, path: string, blanks: Blank[], given: Form['given'], of: { id: number; revision: number }): Form => ({
    title: titles.edit(what),
    path,
    method: 'PATCH',
    blanks,
    given,
    tag: tagOf(of),
  })
  const add = (title: string, path: string, blanks: Blank[], given: Form['given']): Form => ({ title, path, method: 'POST', blanks, given })
  return {
    site: () => edit(s.code, base, siteFields, { code: s.code, name: s.name, note: s.note, router: s.router, tags: s.tags }, s),
    link: (l?: Link): Form => {
      const given = {
        label: l?.label ?? (s.links.length ? '' : 'main'),
        provider: l?.provider ?? '',
        contract: l?.contract ?? '',
        mode: l?.mode ?? 'dynamic',
        position: l?.position ?? s.links.length + 1,
        router_address: l?.router_address ?? '',
        dynamic_range: l?.dynamic_range ?? '',
        sources: l?.sources ?? [],
        may_map: l?.may_map ?? false,
        ...(l?.mode === 'dynamic' ? {} : { ipv4: l?.ipv4 ?? '', ipv6: l?.ipv6 ?? '' }), // announced, not typed
      }
      return l
        ? edit(`link ${l.label}`, base + at('links', l.label), linkFields, given, l)
        : add(titles.addLink, `${base}/links`, linkFields, given)
    },
    plan: (l: Link): Form => ({
      ...edit('', base + at('links', l.label), [ofLink('change_at', { kind: 'time' })], { change_at: l.change_at ?? '' }, l),
      title: titles.plan(l.label),
    }),
    hostname: (h?: Hostname): Form => {
      const given = {
        link: h?.link ?? '',
        ttl_seconds: h?.ttl_seconds ?? 0,
        extras: h?.extras ?? [],
        mail: h?.mail ?? '',
        device: h?.device ?? '',
      }
      if (h) return edit(h.name, at('hostnames', h.name), hostnameFields, given, h)
      const name = ofHostname('name', { kind: 'name', help: suchAs(`${s.code.toLowerCase()}.ZONE`) })
      return add(titles.addHostname, '/hostnames', [name, ...hostnameFields], { name: suggested, site: s.code, ...given })
    },
    device: (d?: Device): Form => {
      const given = {
        name: d?.name ?? '',
        lan_address: d?.lan_address ?? '',
        mac: d?.mac ?? '',
        reserved: d?.reserved ?? false,
        router: d?.router ?? false,
      }
      return d
        ? edit(`device ${d.name}`, base + at('devices', d.name), deviceFields, given, d)
        : add(titles.addDevice, `${base}/devices`, deviceFields, given)
    },
    service: (v?: Service): Form => {
      const given = {
        name: v?.name ?? '',
        device: v?.device ?? s.devices[0]?.name ?? '',
        external: v?.external ?? '',
        internal: v?.internal ?? '',
        kind: v?.kind ?? 'tcp',
        transport: v?.transport ?? '',
        expected: v?.expected ?? 'reachable',
        reach: v?.reach ?? 'forward',
        link: v?.link ?? '',
        interval_seconds: v?.interval_seconds ?? 60,
        options: v?.options ?? {},
        open_until: v?.open_until ?? '',
        in_use: v?.in_use ?? false,
      }
      return v
        ? edit(`service ${v.name}`, base + at('services', v.name), serviceFields, given, v)
        : add(titles.addService, `${base}/services`, serviceFields, given)
    },
  }
}
