import type { Blank } from './blank'

// The fields of every form: what they are called, and what is allowed.
const fields = {
  person: {
    name: { label: 'Name', help: 'That they sign in with' },
    role: { label: 'Role' },
    tags: { label: 'Tags of the sites that they see', help: 'Such as north, quay. Empty: all sites' },
  },
  key: {
    label: { label: 'Where it is used' },
    may: { label: 'What it is made for', help: 'To read, to have something probed, or to edit' },
  },
  site: {
    code: { label: 'Site code', help: 'Short and unique, such as KET-07' },
    name: { label: 'Name' },
    note: { label: 'Note for the next visit' },
    router: { label: 'Router: its make, and where it stands' },
    tags: { label: 'Tags', help: 'Such as harbour: they put sites together' },
  },
  link: {
    label: { label: 'Label', help: 'Such as main or backup' },
    provider: { label: 'Provider' },
    contract: { label: 'Contract number', help: 'That the provider knows the line by' },
    mode: { label: 'Address type' },
    position: { label: 'Order of preference', help: '1 is preferred' },
    ipv4: { label: 'IPv4 address', help: 'Static links only' },
    ipv6: { label: 'IPv6 address', help: 'Static links only' },
    router_address: { label: "Router's WAN address", help: 'From its status page, where no protocol reports it' },
    dynamic_range: { label: 'DHCP range', help: 'Such as 192.168.7.100-192.168.7.199' },
    sources: { label: 'Address sources', help: 'The most trusted first: observed, stun, gateway, interface, fixed. Empty: all' },
    may_map: { label: 'May ask the router for a failing port as a trial' },
    change_at: { label: 'The provider changes the address at', help: 'TTLs are lowered ahead of it. Empty: nothing is planned.' },
  },
  hostname: {
    name: { label: 'Name' },
    link: { label: 'Follows' },
    ttl_seconds: { label: 'TTL in seconds', help: "0 takes the zone's" },
    extras: { label: 'Further labels', help: 'With the same addresses: www, mail, or * for any other' },
    mail: { label: 'Mail host' },
    device: { label: 'Device whose IPv6 address is the AAAA' },
  },
  device: {
    name: { label: 'Name' },
    lan_address: { label: 'LAN address' },
    mac: { label: 'MAC address' },
    reserved: { label: 'Reserved in the router (always this address)' },
    router: { label: "It is the site's router" },
  },
  service: {
    name: { label: 'Name' },
    device: { label: 'Device' },
    kind: { label: 'Kind', help: 'What it speaks, which decides how it is probed' },
    transport: { label: 'Transport' },
    external: { label: 'External port or range', help: 'Such as 8443 or 5000-5003' },
    internal: { label: 'First port on the device', help: 'Empty: the same as outside' },
    expected: { label: 'Expected' },
    reach: { label: 'Way in', help: 'A forward (IPv4), a pinhole to the device itself (IPv6), or both' },
    link: { label: 'Link' },
    interval_seconds: { label: 'Probe interval (seconds)' },
    options: { label: 'Options', help: 'Such as path=/live, status=200, text=Welcome; for WireGuard peer_key=KEY' },
    in_use: { label: 'It is in use already: a fault, not to be commissioned, if it does not answer' },
    open_until: { label: 'Open until', help: 'Afterwards the port must be closed. Empty: no end.' },
  },
  rule: {
    person: { label: 'Person', help: 'Or a webhook' },
    hook: { label: 'Webhook' },
    ways: { label: 'By', help: 'mail, push or both, separated by commas. Empty: mail' },
    hours: { label: 'Hours', help: 'Such as from=07:00, until=19:00, zone=Europe/London. Empty: always' },
    topic: { label: 'Is told of', help: 'faults, moves, or a digest: daily, weekly' },
    site: { label: 'Only of the site', help: 'Its code' },
    tag: { label: 'Only of sites tagged' },
    provider: { label: 'Only of sites of the provider' },
    causes: { label: 'Only of the causes', help: 'Such as site-dark, separated by commas' },
    serious: { label: 'Only what cuts somebody off, or leaves a door open' },
    after_minutes: { label: 'When nobody knows of it after (minutes)' },
    again_minutes: { label: 'Again after (minutes)' },
    gather_minutes: { label: 'Put together for (minutes)' },
    subject: { label: 'Subject', help: 'With {site} {name} {provider} {cause} {what} {summary}. Empty: the usual one' },
  },
  addressee: { mail: { label: 'Mail address' }, zone: { label: 'Time zone', help: 'Such as Europe/London' } },
  hook: { name: { label: 'Name' }, url: { label: 'URL' } },
  contact: {
    role: { label: 'Who' },
    name: { label: 'Name' },
    phone: { label: 'Phone' },
    mail: { label: 'Mail address' },
    note: { label: 'Note', help: 'When to call, what for' },
  },
  zone: {
    apex: { label: 'Zone', help: 'Such as isles.saltmarsh.example' },
    ttl_seconds: { label: 'TTL in seconds' },
    template: { label: "Template of a site's first name", help: 'Such as {code}.ZONE; {name} and {n} work, too' },
    primary: { label: 'Primary', help: 'ADDRESS or ADDRESS:PORT' },
    primary_key: { label: 'Signing key' },
    transport: { label: 'Updates over' },
    reassert_seconds: { label: 'Push again after (seconds)' },
    servers: { label: 'Name servers', help: 'NAME or NAME=ADDRESS, separated by commas' },
    contact: { label: 'Contact (mail address)' },
    notify: { label: 'Secondaries to notify', help: 'ADDRESS or ADDRESS:PORT' },
    transfer_key: { label: 'Transfers allowed with key' },
    transfer_to: { label: 'Transfers allowed to', help: 'Addresses and prefixes, separated by commas' },
    refresh_seconds: { label: 'Refresh (seconds)' },
    retry_seconds: { label: 'Retry (seconds)' },
    expire_seconds: { label: 'Expire (seconds)' },
    negative_seconds: { label: 'Negative answers are cached (seconds)' },
    also_ask: { label: 'Other servers to check', help: 'ADDRESS or ADDRESS:PORT' },
  },
  alias: { name: { label: 'Name' }, hostname: { label: 'Stands for' } },
  redirect: {
    name: { label: 'Name' },
    hostname: { label: 'Leads to' },
    scheme: { label: 'Scheme' },
    port: { label: 'Port', help: "0 takes the scheme's own" },
    path: { label: 'Path' },
    keep_path: { label: 'Append the requested path' },
  },
  record: {
    name: { label: 'Name' },
    type: { label: 'Type', help: 'A, AAAA, CNAME, MX, TXT, SRV, CAA and others' },
    ttl_seconds: { label: 'TTL in seconds' },
    data: { label: 'Data', help: 'As in a zone file' },
  },
  signingKey: {
    name: { label: 'Name' },
    algorithm: { label: 'Algorithm' },
    site: { label: 'May update the hostnames of' },
    secret: { label: 'Secret in base64', help: 'Empty: a new one is made' },
  },
} satisfies Record<string, Record<string, Pick<Blank, 'label' | 'help'>>>

// fieldOf is a field of a resource's form, in the words that it has everywhere.
export const fieldOf =
  <R extends keyof typeof fields>(resource: R) =>
  (name: keyof (typeof fields)[R] & string, more: Partial<Blank> = {}): Blank => ({
    name,
    ...(fields[resource] as Record<string, Pick<Blank, 'label' | 'help'>>)[name],
    ...more,
  })

// Titles of forms.
export const titles = {
  addSite: 'Add a site',
  addContact: 'Add a contact',
  addLink: 'Add a link',
  addHostname: 'Add a hostname',
  addDevice: 'Add a device',
  addService: 'Add a service',
  addAlias: 'Add an alias',
  addRedirect: 'Add a redirect',
  addRecord: 'Add a record',
  addSigningKey: 'Add a signing key',
  addHosted: 'Add a hosted zone',
  addRemote: 'Add a remote zone',
  edit: (what: string) => `Edit ${what}`,
  plan: (link: string) => `When will link ${link} change?`,
}

// What stands for an empty choice, and examples.
export const empty = { key: 'no key', transport: "the kind's usual", site: 'no site: for transfers and pushes' }
export const suchAs = (example: string) => `Such as ${example}`
