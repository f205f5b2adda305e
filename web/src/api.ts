// The calls of the API that the console makes.

import { say } from './catalogue'
import type {
  Session,
  Move,
  Overview,
  DeviceReport,
  Proof,
  Hostname,
  Zone,
  Push,
  Difference,
  Alias,
  Redirect,
  ZoneRecord,
  SigningKey,
  NameCheck,
  Key,
  Service,
  Trait,
  Card,
  Availability,
  Vantage,
  Review,
  Site,
  History,
  ProbeTrace,
  Invitation,
  Flaw,
  Edit,
  Why,
  Accuracy,
  Cause,
  Fault,
  FaultStory,
  PlannedWork,
  PushBrowser,
  Check,
  CheckupNews,
  Removed,
  SiteSummary,
  SiteFilter,
  LANList,
  Declared,
  DeclaredNews,
  PushInput,
  Commissioning,
  Contact,
  SiteNote,
  Photo,
  HandoverSheet,
  SheetVersion,
  SheetLink,
  CommissioningAnswer,
  Notice,
  NoticeStory,
  NoticeTrial,
  NoticeRule,
  Addressee,
  Hook,
  FaultJudgement,
  Person,
  PersonInvitation,
  SessionView,
  Seconds,
  TOTPSecret,
  RecoveryCodes,
  Ceremony,
  Act,
  Settings,
} from './documents'

export type * from './documents'

// tagOf stands for a resource as it was read: an edit or removal that carries it is refused where somebody edited it meanwhile.
export const tagOf = (r: { id: number; revision: number }) => `${r.id}-${r.revision}`

// Problem is an error that the server explained (RFC 9457), or a server that did not answer.
export class Problem extends Error {
  constructor(
    readonly status: number,
    detail: string,
    readonly errors: Flaw[] = [],
    readonly type = '',
    readonly meanwhile: Edit[] = [],
    readonly current = '',
  ) {
    super(detail)
  }
}

let intent = ''

async function asked(method: string, path: string, body?: unknown, tag?: string, signal?: AbortSignal): Promise<Response> {
  const headers: Record<string, string> = {}
  const file = body instanceof Blob
  if (body !== undefined) headers['Content-Type'] = file ? body.type : 'application/json'
  if (method !== 'GET') headers['X-Inkpost-Intent'] = intent
  if (tag) headers['If-Match'] = `"${tag}"`
  let reply: Response
  try {
    reply = await fetch('/api/v1' + path, { method, headers, body: body === undefined || file ? body : JSON.stringify(body), signal })
  } catch {
    throw new Problem(0, say.noAnswer)
  }
  if (!reply.ok) {
    const doc = await reply.json().catch(() => ({}))
    throw new Problem(
      reply.status,
      doc.detail ?? say.answered(reply.status),
      doc.errors ?? [],
      doc.type ?? '',
      doc.meanwhile ?? [],
      doc.current ?? '',
    )
  }
  return reply
}

async function call<T>(method: string, path: string, body?: unknown, tag?: string): Promise<T> {
  const reply = await asked(method, path, body, tag)
  return reply.status === 204 ? (undefined as T) : reply.json()
}

// lines reads a reply of one document a line, each as it comes, and gives the last.
async function lines<T>(method: string, path: string, body: unknown, each: (doc: T) => void, signal?: AbortSignal): Promise<T> {
  const reader = (await asked(method, path, body, undefined, signal)).body!.pipeThrough(new TextDecoderStream()).getReader()
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
  if (last === undefined) throw new Problem(0, say.endedEarly)
  return last
}

// partOf reads a part of a list, and how many there are in all.
async function partOf<T>(path: string, of: Record<string, string | number>): Promise<{ list: T[]; total: number }> {
  const given = Object.entries(of).filter(([, v]) => v !== '' && v !== 0)
  const reply = await asked('GET', `${path}?` + new URLSearchParams(given.map(([k, v]) => [k, String(v)])).toString())
  return { list: (await reply.json()) as T[], total: Number(reply.headers.get('Inkpost-Total')) }
}

async function opened(session: Promise<Session>): Promise<Session> {
  const s = await session
  intent = s.csrf
  return s
}

// at is a path of names that may hold anything.
export const at = (...parts: string[]) => '/' + parts.map(encodeURIComponent).join('/')

export const api = {
  session: () => opened(call<Session>('GET', '/session')),
  signIn: (name: string, password: string, code?: string) => opened(call<Session>('POST', '/session', { name, password, code })),
  choosePassword: (password: string) => opened(call<Session>('PUT', '/session/password', { password })),
  replacePassword: (of: { old: string; password: string; end_keys: boolean }) => opened(call<Session>('PUT', '/session/password', of)),
  ways: () => call<{ provider?: string }>('GET', '/session/ways'),
  invited: (code: string) => call<PersonInvitation>('POST', '/session/invitation/reading', { code }),
  accept: (code: string, password: string) => opened(call<Session>('POST', '/session/invitation', { code, password })),
  sessions: () => call<SessionView[]>('GET', '/session/all'),
  endSession: (id: number) => call<void>('DELETE', at('session', 'all', String(id))),
  seconds: () => call<Seconds>('GET', '/session/second'),
  newTOTP: () => call<TOTPSecret>('POST', '/session/totp/secret'),
  keepTOTP: (of: { secret: string; code: string; password: string }) => call<RecoveryCodes>('PUT', '/session/totp', of),
  dropTOTP: (password: string) => call<void>('POST', '/session/totp/removal', { password }),
  newCodes: (password: string) => call<RecoveryCodes>('POST', '/session/recovery-codes', { password }),
  beginPasskey: (password: string) => call<Ceremony>('POST', '/session/passkeys/ceremony', { password }),
  keepPasskey: (handle: string, label: string, answer: unknown) =>
    call<RecoveryCodes>('POST', '/session/passkeys', { handle, label, answer }),
  removePasskey: (id: number, password: string) => call<void>('POST', at('session', 'passkeys', String(id), 'removal'), { password }),
  askPasskey: () => call<Ceremony>('POST', '/session/passkey/ceremony'),
  signInByPasskey: (handle: string, answer: unknown) => opened(call<Session>('POST', '/session/passkey', { handle, answer })),
  people: () => call<Person[]>('GET', '/people'),
  invitations: () => call<PersonInvitation[]>('GET', '/invitations'),
  settings: () => call<Settings>('GET', '/settings'),
  setSettings: (of: Settings) => call<Settings>('PUT', '/settings', of),
  checkup: async (tell: (c: Check) => void, signal: AbortSignal) => {
    const last = await lines<CheckupNews>('GET', '/checkup', undefined, (n) => n.check && tell(n.check), signal)
    if (!last.worst) throw new Problem(0, say.endedEarly)
  },
  acts: (query: Record<string, string>) => call<Act[]>('GET', '/audit?' + new URLSearchParams(query).toString()),
  keys: () => call<Key[]>('GET', '/keys'),
  revokeKey: (id: number) => call<void>('DELETE', at('keys', String(id))),
  signOut: () => call<void>('DELETE', '/session'),
  overview: () => call<Overview>('GET', '/overview'),
  sites: (of: Record<string, string | number>) => partOf<SiteSummary>('/sites', of),
  hostnames: (of: Record<string, string | number>) => partOf<Hostname>('/hostnames', of),
  filters: () => call<SiteFilter[]>('GET', '/site-filters'),
  keepFilter: (query: string) => call<SiteFilter>('POST', '/site-filters', { query }),
  dropFilter: (id: number) => call<void>('DELETE', at('site-filters', String(id))),
  lanList: async (site: string, list: string) =>
    (await (await asked('POST', at('sites', site, 'lan-list'), new Blob([list], { type: 'text/plain' }))).json()) as LANList,
  site: (code: string) => call<Site>('GET', at('sites', code)),
  why: (code: string) => call<Why>('GET', at('sites', code, 'why')),
  causes: () => call<Cause[]>('GET', '/causes'),
  cause: (slug: string) => call<Cause>('GET', at('causes', slug)),
  accuracy: () => call<Accuracy[]>('GET', '/faults/accuracy'),
  faultsWith: (cause: string) => call<Fault[]>('GET', `/faults?open=true&cause=${encodeURIComponent(cause)}`),
  faultsOf: (site: string) => call<Fault[]>('GET', `/faults?site=${encodeURIComponent(site)}`),
  pastFaults: () => call<Fault[]>('GET', '/faults?open=false'),
  judge: (id: number, of: { right: boolean; actual?: string; note?: string }) =>
    call<FaultJudgement>('PUT', at('faults', String(id), 'judgement'), of),
  fault: (id: string) => call<FaultStory>('GET', at('faults', id)),
  takeFault: (id: number, of: { acknowledged?: boolean; assigned?: string }) =>
    call<FaultStory>('PUT', at('faults', String(id), 'taking'), of),
  noteFault: (id: number, note: string) => call<FaultStory>('POST', at('faults', String(id), 'notes'), { note }),
  muteFault: (id: number, minutes: number, reason: string) =>
    call<PlannedWork>('POST', at('faults', String(id), 'planned-work'), { minutes, reason }),
  contacts: (site: string) => call<Contact[]>('GET', at('sites', site, 'contacts')),
  siteNotes: (site: string) => call<SiteNote[]>('GET', at('sites', site, 'notes')),
  addSiteNote: (site: string, words: string) => call<SiteNote>('POST', at('sites', site, 'notes'), { words }),
  photos: (site: string) => call<Photo[]>('GET', at('sites', site, 'photos')),
  addPhoto: (site: string, file: File) => call<Photo>('POST', at('sites', site, 'photos'), file),
  sheets: (site: string) => call<SheetVersion[]>('GET', at('sites', site, 'sheets')),
  keepSheet: (site: string) => call<HandoverSheet>('POST', at('sites', site, 'sheets'), { reason: '' }),
  sheetLinks: (site: string) => call<SheetLink[]>('GET', at('sites', site, 'sheet-links')),
  shareSheet: (site: string, whose: string) => call<SheetLink>('POST', at('sites', site, 'sheet-links'), { whose }),
  commissioning: (site: string) => call<Commissioning>('GET', at('sites', site, 'commissioning')),
  commission: (site: string) => call<Commissioning>('POST', at('sites', site, 'commissioning'), {}),
  answerStep: (site: string, answer: CommissioningAnswer) =>
    call<Commissioning>('POST', at('sites', site, 'commissioning', 'answers'), answer),
  proveStep: (site: string, service: string) => call<Proof>('POST', at('sites', site, 'commissioning', 'services', service, 'proof')),
  endCommissioning: (site: string) => call<Commissioning>('DELETE', at('sites', site, 'commissioning')),
  plannedWork: () => call<PlannedWork[]>('GET', '/planned-work'),
  planWork: (of: { site: string; minutes: number; reason: string }) => call<PlannedWork>('POST', '/planned-work', of),
  endWork: (id: number) => call<void>('DELETE', at('planned-work', String(id))),
  notices: () => call<Notice[]>('GET', '/notices?limit=100'),
  notice: (id: number) => call<NoticeStory>('GET', at('notices', String(id))),
  sendAgain: (id: number) => call<void>('POST', at('notices', String(id), 'again')),
  testNotice: (to: { person?: string; hook?: string; way?: string }) => call<NoticeTrial>('POST', '/notice-tests', to),
  noticeRules: () => call<NoticeRule[]>('GET', '/notice-rules'),
  removeRule: (id: number) => call<void>('DELETE', at('notice-rules', String(id))),
  addressees: () => call<Addressee[]>('GET', '/addressees'),
  pushKey: () => call<{ key: string }>('GET', '/push-key'),
  pushBrowsers: () => call<PushBrowser[]>('GET', '/push-browsers'),
  subscribe: (of: PushInput) => call<PushBrowser>('POST', '/push-browsers', of),
  hooks: () => call<Hook[]>('GET', '/hooks'),
  moves: (site: string, limit: number) => call<Move[]>('GET', `/moves?site=${encodeURIComponent(site)}&limit=${limit}`),
  history: (site: string, service: string, from: Date, until: Date) =>
    call<History>('GET', at('sites', site, 'services', service, 'history') + `?from=${from.toISOString()}&until=${until.toISOString()}`),
  probe: (site: string, service: string, from: string) =>
    call<ProbeTrace>('POST', at('sites', site, 'services', service, 'probes') + (from ? `?from=${encodeURIComponent(from)}` : '')),
  kinds: () => call<Trait[]>('GET', '/kinds'),
  cards: (site: string, service: string) => call<Card[]>('GET', at('sites', site, 'services', service, 'cards')),
  days: (site: string, service: string, count: number) =>
    call<Availability[]>('GET', at('sites', site, 'services', service, 'days') + `?count=${count}`),
  availability: (site: string, service: string) =>
    call<{ windows: Availability[] }[]>('GET', at('sites', site, 'services', service, 'availability')),
  pin: (site: string, service: string) => call<Service>('PUT', at('sites', site, 'services', service, 'fingerprint'), { fingerprint: '' }),
  historyFile: (site: string, service: string, from: number, until: number, format: string) =>
    '/api/v1' +
    at('sites', site, 'services', service, 'history') +
    `?from=${new Date(from).toISOString()}&until=${new Date(until).toISOString()}&format=${format}`,
  vantages: () => call<Vantage[]>('GET', '/vantages'),
  inviteVantage: (name: string, note: string) =>
    call<{ vantage: string; code: string; server?: string }>('POST', '/vantages', { name, note }),
  reviews: (site: string) => call<Review[]>('GET', at('sites', site, 'reviews')),
  review: (site: string, consent: string, progress: (share: number) => void) =>
    lines<{ done: number; of: number; review?: Review }>('POST', at('sites', site, 'reviews'), { consent }, (n) => progress(n.done / n.of)),
  // What a kind of thing in a file has: the headings of its template.
  recordFields: async (kind: string) =>
    (await (await asked('GET', `/record?format=csv&template=true&kind=${kind}`)).text()).split('\n')[0].split(','),
  declare: async (
    file: Blob,
    type: string,
    query: [string, string][],
    progress: (done: number, of: number) => void,
    signal: AbortSignal,
  ): Promise<Declared> => {
    const path = '/record?' + new URLSearchParams(query).toString()
    const last = await lines<DeclaredNews>('POST', path, new Blob([file], { type }), (n) => progress(n.done, n.of), signal)
    if (!last.result) throw new Problem(0, last.failed ?? say.endedEarly)
    return last.result
  },
  invite: (site: string, link: string) => call<Invitation>('POST', at('sites', site, 'links', link, 'invitations')),
  routerKey: (site: string, link: string) => call<Key>('POST', at('sites', site, 'links', link, 'router-keys'), { label: 'router' }),
  hold: (name: string, kept: boolean) => call<Hostname>(kept ? 'PUT' : 'DELETE', at('hostnames', name, 'hold')),
  checkName: (name: string) => call<NameCheck>('GET', `/names/check?name=${encodeURIComponent(name)}`),
  suggestName: (site: string) => call<NameCheck>('GET', at('sites', site, 'name-suggestion')),
  movesBy: (query: URLSearchParams) => call<Move[]>('GET', `/moves?${query}`),
  zones: () => call<Zone[]>('GET', '/zones'),
  aliases: () => call<Alias[]>('GET', '/aliases'),
  redirects: () => call<Redirect[]>('GET', '/redirects'),
  signingKeys: () => call<SigningKey[]>('GET', '/signing-keys'),
  records: (zone: string) => call<ZoneRecord[]>('GET', at('zones', zone, 'records')),
  pushes: (zone: string) => call<Push[]>('GET', at('zones', zone, 'pushes')),
  push: (zone: string) => call<Push[]>('POST', at('zones', zone, 'pushes')),
  differences: (zone: string) => call<Difference[]>('GET', at('zones', zone, 'differences')),
  send: (method: 'POST' | 'PATCH' | 'PUT', path: string, body: unknown, tag?: string) => call<unknown>(method, path, body, tag),
  removed: () => call<Removed[]>('GET', '/removed'),
  restore: (id: number) => call<Removed>('POST', at('removed', String(id), 'restoration')),
  remove: (path: string, tag?: string) => call<void>('DELETE', path, undefined, tag),
  lan: (site: string) => call<DeviceReport[]>('GET', at('sites', site, 'lan')),
  look: (site: string) => call<DeviceReport[]>('POST', at('sites', site, 'lan')),
  prove: (site: string, transport: string, external: number) => call<Proof>('POST', at('sites', site, 'proofs'), { transport, external }),
  renumber: (site: string, link: string) =>
    call<{ old: string; new: string }>('POST', at('lab', 'sites', site, 'links', link, 'renumberings')),
}
