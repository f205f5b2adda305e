// The documents of the API that the console reads, and the calls it makes.

export type Hop = 'vantage' | 'hostname' | 'address' | 'upstream' | 'forward' | 'device' | 'service'
export type Verdict = 'proven' | 'unsettled' | 'broken' | 'unproven'
export type Outcome = 'answered' | 'opened' | 'refused' | 'silent' | 'unroutable' | 'garbled' | 'stranger' | 'skipped'
export type Need = 'now' | 'soon' | 'nothing' | 'unknown'

export interface Session { name: string; csrf: string; choose_password: boolean; lab: boolean }
export interface Finding { cause: string; hop: Hop; subject: string; services?: string[]; summary: string; evidence: string[]; next_step: string; also?: string[] }
export interface Fault { id: number; site: string; site_name: string; serious: boolean; opened: string; closed?: string; finding: Finding }
export interface SiteSummary {
  id: number; revision: number; link: string
  code: string; name: string; note: string; need: Need; address: string; hostname: string
  service_count: number; as_expected_count: number; fault_count: number
}
export interface Stage { name: string; at?: string; after_ms: number; reached_ms: number }
export interface Move { id: number; site: string; link: string; old: string; new: string; source: string; noticed: string; total_ms: number; stages: Stage[]; zones?: { zone: string; at: string; reached_ms: number }[] }
export interface Overview { standby?: string; trouble?: string; faults: Fault[]; sites: SiteSummary[]; moves: Move[] }
export interface Link { id: number; revision: number; label: string; provider: string; mode: string; position: number; ipv4?: string; ipv6?: string; since?: string; heard?: string; source?: string; agent: boolean; overdue: boolean; change_at?: string
  router_address?: string; dynamic_range?: string; sources?: string[]; failing?: boolean; report?: LinkReport; change_pattern?: { words: string; next: string; sure: number }
}
export interface LinkReport {
  nat: string; words?: string; remedies?: string[]; chain?: string[]; router_address?: string; reason?: string; held?: string; agent?: string; resolver?: string
  sources?: { source: string; via?: string; addresses: string; at?: string; problem?: string; dissent?: string }[]
  refused?: { reason: string; from?: string; count: number; last: string; stranger?: boolean }[]
}
export interface Sighting { device: string; present: boolean; found?: string; ipv6?: string; mac?: string; at?: string; ports?: { service: string; state: string }[] }
export interface Proof { proven: boolean; words: string; next_step?: string }
export interface ResolverView { server: string; authoritative?: boolean; given: string; differs: boolean }
export interface Hostname {
  id: number; revision: number; name: string; shown?: string; zone: string; site: string; link?: string; ttl_seconds: number; state: string; ipv4?: string; ipv6?: string; given?: string
  held?: string; hold_by?: string; hold_at?: string; extras?: string[]; mail?: string; device?: string; resolvers?: ResolverView[]
}
export interface Zone {
  id: number; revision: number; apex: string; kind: 'hosted' | 'remote'; contact: string; serial: number; ttl_seconds: number; servers: { name: string; addresses?: string[] }[]; notify?: string[]; transfer_key?: string
  refresh_seconds: number; retry_seconds: number; expire_seconds: number; negative_seconds: number; transfer_to?: string[]; also_ask?: string[]
  template?: string; primary?: string; primary_key?: string; transport?: string; reassert_seconds?: number; pushing?: boolean
}
export interface Push { name: string; state: string; taken?: string; tries: number; detail?: string }
export interface Difference { name: string; type: string; now: string[] | null; want: string[] | null }
export interface Alias { id: number; revision: number; zone: string; name: string; hostname: string; site: string; given?: string; hostname_given?: string; same: boolean; resolvers?: ResolverView[] }
export interface Redirect { id: number; revision: number; zone: string; name: string; hostname: string; site: string; scheme: string; port?: number; path: string; keep_path: boolean; status: number; leads: string }
export interface ZoneRecord { id: number; name: string; type: string; ttl_seconds: number; data: string }
export interface SigningKey { name: string; algorithm: string; site?: string; created: string; secret?: string }
export interface NameCheck { name: string; shown: string; legal: boolean; free: boolean; detail: string }
export interface Key { server?: string; secret: string; holder: string }
export interface Device { id: number; revision: number; name: string; mac: string; lan_address: string; reserved: boolean; router?: boolean }
export interface Service { reach?: string; ways?: { way: string; target?: string; outcome: string; message?: string }[];
  id: number; revision: number; state_words: string
  name: string; device: string; link?: string; kind: string; transport: string; external_from: number; external_to: number; internal_from: number
  expected: string; interval_seconds: number; state: string; as_expected: boolean; since?: string; outcome?: Outcome; probed?: string; address?: string; latency_us: number
  message?: string; not_provable?: boolean; expected_now: string; open_until?: string; options?: Record<string, string>; vantages?: ServiceView[]
  fingerprint?: string; pinned?: string; pinned_by?: string; fingerprint_seen?: string; certificate?: Certificate; weakness?: string; by_name?: NameWay; probe_peer_key?: string; vantage_peer_keys?: Record<string, string>
}
export interface ServiceView { vantage: string; outcome: Outcome; in_row: number; at: string; latency_us?: number; message?: string; does_not_count?: string }
export interface Certificate { names?: string[]; expires: string; problem?: string }
export interface NameWay { hostname: string; resolver: string; given: string; outcome: Outcome; message: string; at: string }
export interface Trait { kind: string; about: string; transports: string[]; port: number; options?: string[]; recognised_by?: string }
export interface Card { title: string; where: string; fields: { label: string; value: string }[]; note?: string }
export interface Availability { window: string; share: number | null; as_expected_s: number; impaired_s: number; failing_s: number; unknown_s: number; median_us: number; p95_us: number; p99_us: number }
export interface Vantage { id: number; name: string; note?: string; own: boolean; enrolled?: string; heard?: string; state: string; problem?: string; services: number; observed?: string; networks?: string[]; waiting?: number; version?: string; platform?: string }
export interface Advice { port: number; what: string; service?: string; severe: boolean; advice: string }
export interface Review { id: number; person: string; consent: string; started: string; ended?: string; address: string; ports: number[]; open: number; findings: Advice[]; problem?: string }
export interface Station { hop: Hop; value: string; detail?: string; verdict: Verdict }
export interface Path { service: string; state: string; state_words: string; outcome: Outcome; stations: Station[]; finding?: Finding }
export interface Site extends SiteSummary { links: Link[]; hostnames: Hostname[]; devices: Device[]; services: Service[]; faults: Fault[]; paths: Path[] }
export interface Span { vantage: string; outcome: Outcome; from: string; until: string; count: number; fastest_us: number; slowest_us: number }
export interface History { service: string; from: string; until: string; gap_ms: number; spans: Span[] }
export interface Attempt { target: string; transport?: string; from?: string; outcome: Outcome; took_us: number; message: string; steps?: { step: string; at_us: number; words: string }[] }
export interface Story { outcome: Outcome; state: string; vantage: string; attempts: Attempt[]; by_name?: NameWay; not_provable?: boolean; weakness?: string }
export interface Invitation { server?: string; code: string; expires: string; link: string }

export interface Flaw { field: string; detail: string }

// Edit is one revision of a resource: who made it, when, and what changed with it.
export interface Edit { revision: number; person: string; at: string; changes: { field: string; before?: unknown; after?: unknown }[] }

// tagOf stands for a resource as it was read: an edit or removal that carries it is refused where somebody edited it meanwhile.
export const tagOf = (r: { id: number; revision: number }) => `${r.id}-${r.revision}`

// Problem is an error that the server explained (RFC 9457), or a server that did not answer.
export class Problem extends Error {
  constructor(readonly status: number, detail: string, readonly errors: Flaw[] = [], readonly type = '', readonly meanwhile: Edit[] = [], readonly current = '') {
    super(detail)
  }
}

let intent = ''

async function asked(method: string, path: string, body?: unknown, tag?: string): Promise<Response> {
  const headers: Record<string, string> = {}
  if (body !== undefined) headers['Content-Type'] = 'application/json'
  if (method !== 'GET') headers['X-Inkpost-Intent'] = intent
  if (tag) headers['If-Match'] = `"${tag}"`
  let reply: Response
  try {
    reply = await fetch('/api/v1' + path, { method, headers, body: body === undefined ? undefined : JSON.stringify(body) })
  } catch {
    throw new Problem(0, 'The server does not answer. What you see may be out of date.')
  }
  if (!reply.ok) {
    const doc = await reply.json().catch(() => ({}))
    throw new Problem(reply.status, doc.detail ?? `The server answered ${reply.status}.`, doc.errors ?? [], doc.type ?? '', doc.meanwhile ?? [], doc.current ?? '')
  }
  return reply
}

async function call<T>(method: string, path: string, body?: unknown, tag?: string): Promise<T> {
  const reply = await asked(method, path, body, tag)
  return reply.status === 204 ? (undefined as T) : reply.json()
}

// lines reads a reply of one document a line, each as it comes, and gives the last.
async function lines<T>(path: string, body: unknown, each: (doc: T) => void): Promise<T> {
  const reader = (await asked('POST', path, body)).body!.pipeThrough(new TextDecoderStream()).getReader()
  let rest = ''
  let last: T | undefined
  for (;;) {
    const { done, value } = await reader.read()
    if (done) break
    const parts = (rest + value).split('\n')
    rest = parts.pop() ?? ''
    for (const p of parts) {
      last = JSON.parse(p) as T
      each(last)
    }
  }
  if (last === undefined) throw new Problem(0, 'The reply ended before its result.')
  return last
}

async function opened(session: Promise<Session>): Promise<Session> {
  const s = await session
  intent = s.csrf
  return s
}

const at = (...parts: string[]) => '/' + parts.map(encodeURIComponent).join('/')

export const api = {
  session: () => opened(call<Session>('GET', '/session')),
  signIn: (name: string, password: string) => opened(call<Session>('POST', '/session', { name, password })),
  choosePassword: (password: string) => opened(call<Session>('PUT', '/session/password', { password })),
  signOut: () => call<void>('DELETE', '/session'),
  overview: () => call<Overview>('GET', '/overview'),
  site: (code: string) => call<Site>('GET', at('sites', code)),
  moves: (site: string, limit: number) => call<Move[]>('GET', `/moves?site=${encodeURIComponent(site)}&limit=${limit}`),
  history: (site: string, service: string, from: Date, until: Date) =>
    call<History>('GET', at('sites', site, 'services', service, 'history') + `?from=${from.toISOString()}&until=${until.toISOString()}`),
  probe: (site: string, service: string, from: string) => call<Story>('POST', at('sites', site, 'services', service, 'probes') + (from ? `?from=${encodeURIComponent(from)}` : '')),
  kinds: () => call<Trait[]>('GET', '/kinds'),
  cards: (site: string, service: string) => call<Card[]>('GET', at('sites', site, 'services', service, 'cards')),
  availability: (site: string, service: string) => call<{ windows: Availability[] }[]>('GET', at('sites', site, 'services', service, 'availability')),
  pin: (site: string, service: string) => call<Service>('PUT', at('sites', site, 'services', service, 'fingerprint'), { fingerprint: '' }),
  historyFile: (site: string, service: string, from: number, until: number, format: string) =>
    '/api/v1' + at('sites', site, 'services', service, 'history') + `?from=${new Date(from).toISOString()}&until=${new Date(until).toISOString()}&format=${format}`,
  vantages: () => call<Vantage[]>('GET', '/vantages'),
  inviteVantage: (name: string, note: string) => call<{ vantage: string; code: string; server?: string }>('POST', '/vantages', { name, note }),
  reviews: (site: string) => call<Review[]>('GET', at('sites', site, 'reviews')),
  review: (site: string, consent: string, progress: (share: number) => void) => lines<{ done: number; of: number; review?: Review }>(at('sites', site, 'reviews'), { consent }, (n) => progress(n.done / n.of)),
  invite: (site: string, link: string) => call<Invitation>('POST', at('sites', site, 'links', link, 'invitations')),
  routerKey: (site: string, link: string) => call<Key>('POST', at('sites', site, 'links', link, 'router-keys'), { label: 'router' }),
  hold: (name: string, kept: boolean) => call<Hostname>(kept ? 'PUT' : 'DELETE', at('hostnames', name, 'hold')),
  checkName: (name: string) => call<NameCheck>('GET', `/names/check?name=${encodeURIComponent(name)}`),
  suggestName: (site: string) => call<NameCheck>('GET', at('sites', site, 'name-suggestion')),
  movesBy: (query: URLSearchParams) => call<Move[]>('GET', `/moves?${query}`),
  zones: () => call<Zone[]>('GET', '/zones'),
  hostnames: () => call<Hostname[]>('GET', '/hostnames'),
  aliases: () => call<Alias[]>('GET', '/aliases'),
  redirects: () => call<Redirect[]>('GET', '/redirects'),
  signingKeys: () => call<SigningKey[]>('GET', '/signing-keys'),
  records: (zone: string) => call<ZoneRecord[]>('GET', at('zones', zone, 'records')),
  pushes: (zone: string) => call<Push[]>('GET', at('zones', zone, 'pushes')),
  push: (zone: string) => call<Push[]>('POST', at('zones', zone, 'pushes')),
  differences: (zone: string) => call<Difference[]>('GET', at('zones', zone, 'differences')),
  send: (method: 'POST' | 'PATCH', path: string, body: unknown, tag?: string) => call<unknown>(method, path, body, tag),
  remove: (path: string, tag?: string) => call<void>('DELETE', path, undefined, tag),
  lan: (site: string) => call<Sighting[]>('GET', at('sites', site, 'lan')),
  look: (site: string) => call<Sighting[]>('POST', at('sites', site, 'lan')),
  prove: (site: string, transport: string, external: number) => call<Proof>('POST', at('sites', site, 'proofs'), { transport, external }),
  renumber: (site: string, link: string) => call<{ old: string; new: string }>('POST', at('lab', 'sites', site, 'links', link, 'renumberings')),
}

// nobodySaid is why an invitation may name a server that the site cannot reach.
export const nobodySaid = ' (as this browser reaches the server; where sites reach it, the operator says with serve --public-url)'
