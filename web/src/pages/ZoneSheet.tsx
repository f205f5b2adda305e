import { Alert, Box, Button, Link, TextField, Typography } from '@mui/material'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as To } from 'react-router'
import { at, api, tagOf, type Alias, type Difference, type Hostname, type Push, type Redirect, type Zone } from '../api'
import { say } from '../catalogue'
import { editRedirect, editZone, newAlias, newRecord, newRedirect } from '../forms/zone'
import { Ago } from '../parts/Ago'
import { useEndless } from '../parts/endless'
import { Part, type Doomed, type Form, type Line } from '../parts/Part'
import { Field, Section } from '../parts/Sheet'
import { toneOf } from '../words'

const words = say.names

// few hostnames are shown without a search.
const few = 30

function hostnameLine(h: Hostname, push?: Push): Line {
  const differ = (h.resolvers ?? []).filter((r) => r.differs).map((r) => say.record.gives(r.server, r.given))
  const note = h.held ?? (differ.length ? differ.join(', ') : '')
  const follows = say.record.follows(h.link ? words.link(h.link) : say.record.preferred)
  return {
    key: h.name,
    kind: 'hostname',
    words: h.state,
    tone: toneOf[h.verdict],
    path: at('hostnames', h.name),
    tag: tagOf(h),
    detail: (
      <>
        {h.shown ? `${h.shown} (${h.name})` : h.name} → {h.given || '-'}, {h.hold_at ? say.record.heldAt(h.hold_at) : follows}
        {words.of}
        <Link component={To} to={at('sites', h.site)}>
          {h.site}
        </Link>
        {push?.taken && (
          <>
            {words.takenAt}
            <Ago at={push.taken} />
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
  words: a.same ? words.same : a.given ? words.differs : words.notAsked,
  tone: toneOf[a.verdict],
  path: at('aliases', a.name),
  tag: tagOf(a),
  detail: [
    words.standsFor(a.name, a.hostname),
    a.same || a.given === a.hostname_given ? words.bothGive(a.given || '-') : words.eachGives(a.given || '-', a.hostname_given || '-'),
    ...(a.resolvers ?? []).filter((r) => r.differs).map((r) => words.stillGives(r.server, r.given)),
  ].join(', '),
})

const redirectLine = (r: Redirect, hostnames?: string[]): Line => ({
  key: r.name,
  words: String(r.status),
  detail: words.leadsTo(r.name, r.leads) + (r.keep_path ? words.andPath : ''),
  path: at('redirects', r.name),
  tag: tagOf(r),
  edit: editRedirect(r, hostnames),
})

function Differences({ list }: { list: Difference[] }) {
  if (list.length === 0) return <Alert severity="success">{words.upToDate}</Alert>
  const set = (records?: string[]) => (records ?? []).join(', ') || say.form.nothing
  return (
    <Box sx={{ px: 2, py: 1, borderTop: (t) => t.rule.field }}>
      <Typography variant="label">{words.preview}</Typography>
      {list.map((d) => (
        <Typography key={d.name + d.type} variant="mono" component="div">
          {d.name} {d.type}:{' '}
          <Box component="del" sx={{ color: 'error.main' }}>
            {set(d.now)}
          </Box>{' '}
          →{' '}
          <Box component="ins" sx={{ color: 'success.main' }}>
            {set(d.want)}
          </Box>
        </Typography>
      ))}
    </Box>
  )
}

interface Given {
  zone: Zone
  aliases: Alias[]
  redirects: Redirect[]
  keys: string[]
  open: (f: Form) => void
  remove: (d: Doomed) => void
}

// ZoneSheet is one zone with all that stands in it, and how it goes with what is pushed elsewhere.
export function ZoneSheet({ zone: z, aliases, redirects, keys, open, remove }: Given) {
  const remote = z.kind === 'remote'
  const pushes = useQuery({ queryKey: ['pushes', z.apex], queryFn: () => api.pushes(z.apex), enabled: remote })
  const records = useQuery({ queryKey: ['records', z.apex], queryFn: () => api.records(z.apex) })
  const differences = useMutation({ mutationFn: () => api.differences(z.apex) })
  const push = useMutation({ mutationFn: () => api.push(z.apex), onSuccess: () => pushes.refetch() })
  const [search, setSearch] = useState('')
  const { all: hostnames, total, error: unread, end } = useEndless(['hostnames', z.apex], { zone: z.apex, search }, api.hostnames)
  // A list to pick from is of use while it is short: else the name is typed.
  const all = total <= few && !search ? hostnames.map((h) => h.name) : undefined
  const error = push.error ?? differences.error ?? unread
  const list = pushes.data ?? []
  const waiting = list.filter((p) => p.state !== 'taken')
  const pushed = !z.pushing ? words.notPushed : waiting.length ? words.waiting(waiting.length, list.length) : words.taken(list.length)
  const part = { open, remove }
  return (
    <Section
      title={z.apex}
      id={`zone-${z.apex}`}
      aside={
        <>
          {remote && (
            <Button size="small" variant="outlined" disabled={differences.isPending} onClick={() => differences.mutate()}>
              {words.wouldChange}
            </Button>
          )}
          {remote && (
            <Button size="small" variant="outlined" disabled={push.isPending} onClick={() => push.mutate()}>
              {z.pushing ? words.pushNow : words.startPushing}
            </Button>
          )}
          <Button size="small" component="a" href={`/api/v1/zones/${z.apex}/file`} color="inherit">
            {words.file}
          </Button>
          <Button
            size="small"
            color="inherit"
            onClick={() => open({ ...editZone(z, keys), removal: { key: `zone ${z.apex}`, path: at('zones', z.apex), tag: tagOf(z) } })}
            aria-label={`${say.form.edit} zone ${z.apex}`}
          >
            {say.form.edit}
          </Button>
        </>
      }
    >
      <Box sx={{ display: 'flex', flexWrap: 'wrap', px: 2, pb: 1, pl: '17px', pt: '1px' }}>
        <Field label={words.kind}>{z.kind}</Field>
        {remote ? (
          <>
            <Field label={words.primary}>{z.primary}</Field>
            <Field label={words.names} tone={waiting.length ? 'error.main' : 'success.main'}>
              {pushed}
            </Field>
          </>
        ) : (
          <>
            <Field label={words.serial}>{z.serial}</Field>
            <Field label={words.servers} wide>
              {z.servers.map((s) => s.split('=')[0]).join(' ')}
            </Field>
          </>
        )}
        <Field label={words.ttl}>{z.ttl_seconds} s</Field>
      </Box>
      {error && <Alert severity="error">{error.message}</Alert>}
      {differences.data && <Differences list={differences.data} />}
      {waiting.map(
        (p) =>
          p.detail && (
            <Alert key={p.name} severity="error">
              {words.tries(p.name, p.state, p.tries, p.detail)}
            </Alert>
          ),
      )}
      <Part
        title={total > few || search ? words.hostnamesOf(total) : words.hostnames}
        {...part}
        aside={
          (total > few || search) && (
            <TextField
              type="search"
              fullWidth={false}
              placeholder={words.findName}
              value={search}
              onChange={(e) => setSearch(e.target.value)}
              slotProps={{ htmlInput: { 'aria-label': words.findIn(z.apex) } }}
            />
          )
        }
        lines={hostnames.map((h) =>
          hostnameLine(
            h,
            list.find((p) => p.name === h.name),
          ),
        )}
      />
      <div ref={end} />
      <Part title={words.aliases} {...part} add={newAlias(z.apex, all)} lines={aliases.filter((a) => a.zone === z.apex).map(aliasLine)} />
      <Part
        title={words.redirects}
        {...part}
        add={newRedirect(z.apex, all)}
        lines={redirects.filter((r) => r.zone === z.apex).map((r) => redirectLine(r, all))}
      />
      <Part
        title={words.records}
        {...part}
        add={newRecord(z)}
        lines={(records.data ?? []).map((r) => ({
          key: `record ${r.id}`,
          words: r.type,
          detail: `${r.name} ${r.ttl_seconds} s ${r.data}`,
          path: at('zones', z.apex, 'records', String(r.id)),
        }))}
      />
    </Section>
  )
}
