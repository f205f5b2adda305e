// The words about what is seen of sites, and of names, and how it is drawn.

import type { Span } from './documents'
import { exact, length } from './words'

export const names = {
  hostnamesOf: (n: number) => `${n} hostnames`,
  findName: 'Find a name',
  findIn: (zone: string) => `Find a name in ${zone}`,
  addHosted: 'Add a hosted zone',
  addRemote: 'Add a remote zone',
  wouldChange: 'What would change',
  preview: 'What a push would change (nothing is pushed yet)',
  upToDate: 'The primary is up to date.',
  pushNow: 'Push now',
  startPushing: 'Start pushing',
  file: 'Zone file',
  kind: 'kind',
  primary: 'primary',
  names: 'names',
  notPushed: 'not pushed yet',
  waiting: (n: number, of: number) => `${n} of ${of} wait`,
  taken: (n: number) => `all ${n} taken`,
  serial: 'serial',
  servers: 'name servers',
  ttl: 'TTL',
  tries: (name: string, state: string, n: number, why: string) => `${name}: ${state} after ${n} tries: ${why}`,
  hostnames: 'Hostnames',
  aliases: 'Aliases',
  redirects: 'Redirects',
  records: 'Other records',
  keys: 'Signing keys',
  tsig: 'TSIG keys',
  secret: (key: string) => `Secret of ${key}, shown once: `,
  link: (label: string) => `link ${label}`,
  of: ' of ',
  takenAt: ', taken ',
  same: 'the same',
  differs: 'differs',
  notAsked: 'not asked yet',
  standsFor: (name: string, hostname: string) => `${name} stands for ${hostname}`,
  bothGive: (what: string) => `both give ${what}`,
  eachGives: (its: string, hostnames: string) => `it gives ${its}, the hostname ${hostnames}`,
  stillGives: (server: string, what: string) => `${server} still gives ${what}`,
  leadsTo: (name: string, url: string) => `${name} → ${url}`,
  andPath: ' and the requested path',
  updatesOf: (site: string) => `updates of ${site}`,
  transfers: 'transfers, pushes',
  made: (name: string, algorithm: string) => `${name}, ${algorithm}, made `,
}

export const moves = {
  title: 'Moves',
  csv: 'As CSV',
  site: 'Site',
  allSites: 'all sites',
  within: 'Noticed within',
  allTime: 'all time',
  source: 'Learned by',
  anySource: 'any source',
  address: 'Left or came to address',
  unfinished: 'not finished',
  none: 'No matching moves.',
}

export const vantages = {
  title: 'Vantage points',
  about:
    'Services are probed from these places. A service is unreachable when more than half of them cannot reach it, and impaired when some can and others cannot.',
  own: 'this server',
  always: 'always',
  ignored: (why: string) => `What it sees does not count for now: ${why}`,
  services: 'services in view',
  heard: 'heard',
  seenAt: 'seen at',
  networks: 'its networks',
  waiting: 'kept for later',
  removal: 'Its key stops working at once, and what it saw no longer counts.',
  name: 'Name',
  where: 'Where it stands',
  invite: 'Invite',
  code: (vantage: string) => `One-time code for ${vantage}: `,
  run: '. There: inkpost vantage run --server ',
}

export const ribbon = {
  title: (service: string) => `History of ${service}`,
  rows: (vantages: string) => `from top to bottom: ${vantages}`,
  span: (s: Span) => {
    const lasted = length(Date.parse(s.until) - Date.parse(s.from))
    const took = s.fastest_us ? `, ${length(s.fastest_us / 1000)} to ${length(s.slowest_us / 1000)}` : ''
    return `${s.vantage}: ${s.outcome} for ${lasted}, ${s.count} ${s.count === 1 ? 'probe' : 'probes'}${took}\n${exact(s.from)} to ${exact(s.until)}`
  },
  open: 'opened, answered',
  refused: 'refused',
  silent: 'silent',
  strange: 'garbled, stranger',
  unroutable: 'unroutable',
  gap: 'nobody looked',
}

export const trail = {
  after: (stage: string, length: string) => `${stage} ${length} after it was noticed`,
  notYet: 'not yet',
  zone: (zone: string, length: string) => `${zone} took it +${length}`,
  total: (length: string) => `in all ${length}`,
}

export const latency = {
  title: (service: string) => `How long ${service} took to answer, day by day`,
  lines: 'solid: half of the probes were faster; dashed: 19 of 20 were',
  none: 'Nothing is known yet of how long it takes to answer.',
  day: (day: string, median: string, p95: string, p99: string) => `${day}: median ${median}, 95 % ${p95}, 99 % ${p99}`,
}

export const stair = {
  none: 'No address is known yet.',
  title: (n: number, newest: string) => `${n} addresses, now ${newest}`,
  since: (address: string, at: string) => `${address} since ${at}`,
  now: (address: string) => `now: ${address}`,
}

export const path = {
  title: (service: string, state: string) => `The path to ${service} is ${state}`,
  hops: {
    vantage: 'from',
    hostname: 'hostname',
    address: 'public address',
    upstream: 'upstream NAT',
    forward: "router's forward",
    device: 'device',
    service: 'service',
  } as Record<string, string>,
}
