import { Box, Button, Checkbox, FormControlLabel, Link, Stack, TextField, Typography } from '@mui/material'
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Link as To, useSearchParams } from 'react-router'
import { api, type Act } from '../api'
import { say } from '../catalogue'
import { Ago } from '../parts/Ago'
import { useSession } from '../parts/session'
import { Section, Trouble } from '../parts/Sheet'
import { Titled } from '../parts/Titled'
import { exact } from '../words'

const words = say.audit

// changed lists what fields were, and what they are now.
function changed(a: Act): [string, string, string][] {
  const was = (a.before ?? {}) as Record<string, unknown>
  const is = (a.after ?? {}) as Record<string, unknown>
  const shown = (v: unknown) => (v === undefined ? '' : typeof v === 'string' ? v : Array.isArray(v) ? v.join(', ') : JSON.stringify(v))
  return [...new Set([...Object.keys(was), ...Object.keys(is)])].filter((k) => k !== 'id').map((k) => [k, shown(was[k]), shown(is[k])])
}

// Done is a line of the audit trail.
export function Done({ a, site = true }: { a: Act; site?: boolean }) {
  const bad = a.status === 0 || a.status >= 400
  return (
    <Box data-act={a.id} sx={{ borderTop: (t) => t.rule.hair, px: 2, py: 0.5 }}>
      <Stack direction={{ xs: 'column', sm: 'row' }} sx={{ columnGap: 2, alignItems: 'baseline', flexWrap: 'wrap' }}>
        <Typography variant="label" sx={{ width: '7rem', flexShrink: 0 }}>
          <Ago at={a.at} />
        </Typography>
        <Typography sx={{ width: '9rem', flexShrink: 0, fontWeight: 600 }}>{a.person || words.nobody}</Typography>
        <Typography sx={{ flex: 1 }}>
          {a.words}
          {a.subject && <Typography variant="mono"> {a.subject}</Typography>}
          {site && a.site && (
            <>
              {' '}
              <Link component={To} to={`/sites/${a.site}`} color="text.primary" variant="value">
                {a.site}
              </Link>
            </>
          )}
        </Typography>
        {bad && (
          <Typography sx={{ color: a.status === 0 ? 'warning.main' : 'error.main' }}>
            {a.status === 0 ? words.unknown : words.refused(a.status)}
          </Typography>
        )}
        <Typography variant="body2" sx={{ color: 'text.secondary' }}>
          {[a.address, a.key && words.by(a.key)].filter(Boolean).join(', ')}
        </Typography>
      </Stack>
      {changed(a).map(([name, was, is]) => (
        <Typography key={name} variant="mono" component="div" sx={{ pl: { sm: '18rem' }, overflowWrap: 'anywhere' }}>
          {name}: {was && <s>{was}</s>} {is}
        </Typography>
      ))}
    </Box>
  )
}

// Undoable is what was removed and can be brought back.
function Undoable() {
  const queries = useQueryClient()
  const may = useSession().role !== 'viewer'
  const list = useQuery({ queryKey: ['removed'], queryFn: api.removed })
  const back = useMutation({
    mutationFn: api.restore,
    onSuccess: () => queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'session' }),
  })
  return (
    <Section title={words.removed} id="removed">
      <Trouble error={list.error ?? back.error} />
      {list.data?.map((r) => (
        <Stack
          key={r.id}
          data-removed={r.name}
          direction="row"
          sx={{ borderTop: (t) => t.rule.hair, px: 2, py: 0.5, columnGap: 2, alignItems: 'center', flexWrap: 'wrap' }}
        >
          <Typography variant="label" sx={{ width: '7rem' }}>
            <Ago at={r.at} />
          </Typography>
          <Typography sx={{ width: '9rem', fontWeight: 600 }}>{r.person}</Typography>
          <Typography sx={{ flex: 1, minWidth: '12rem' }}>
            {r.kind} <Typography variant="mono">{r.name}</Typography> {r.kind !== 'site' && words.ofSite(r.site)}
          </Typography>
          <Typography variant="body2" sx={{ color: 'text.secondary' }}>
            {words.until(exact(r.until))}
          </Typography>
          {may && (
            <Button
              size="small"
              color="inherit"
              disabled={back.isPending}
              onClick={() => back.mutate(r.id)}
              aria-label={`${say.form.back}: ${r.kind} ${r.name}`}
            >
              {say.form.back}
            </Button>
          )}
        </Stack>
      ))}
      {list.data?.length === 0 && <Typography sx={{ px: 2, pb: 1, color: 'text.secondary' }}>{words.noneRemoved}</Typography>}
    </Section>
  )
}

const page = 100

// AuditPage says who did what. What it is narrowed to stands in its address.
export function AuditPage() {
  const [asked, ask] = useSearchParams()
  const count = Number(asked.get('count') ?? page)
  const query = Object.fromEntries([...asked].filter(([k, v]) => v && k !== 'count'))
  const list = useQuery({
    queryKey: ['audit', asked.toString()],
    queryFn: () => api.acts({ ...query, limit: String(count) }),
    placeholderData: keepPreviousData,
  })
  const set = (name: string, value: string) => {
    const next = new URLSearchParams(asked)
    if (value) next.set(name, value)
    else next.delete(name)
    ask(next, { replace: true })
  }
  return (
    <>
      <Titled of={words.title} />
      <Trouble error={list.error} />
      <Section
        title={words.title}
        id="audit"
        aside={
          <Link href={'/api/v1/audit?' + new URLSearchParams({ ...query, format: 'lines' }).toString()} color="text.primary">
            {words.export}
          </Link>
        }
      >
        <Stack direction={{ xs: 'column', sm: 'row' }} sx={{ px: 2, pb: 1, gap: 1, alignItems: { sm: 'center' } }}>
          {(['person', 'site', 'kind'] as const).map((f) => (
            <TextField key={f} size="small" label={words[f]} value={asked.get(f) ?? ''} onChange={(e) => set(f, e.target.value)} />
          ))}
          <FormControlLabel
            label={words.failed}
            sx={{ whiteSpace: 'nowrap' }}
            control={<Checkbox checked={asked.get('failed') === 'true'} onChange={(e) => set('failed', e.target.checked ? 'true' : '')} />}
          />
        </Stack>
        {list.data?.map((a) => (
          <Done key={a.id} a={a} />
        ))}
        {list.data?.length === 0 && (
          <Typography sx={{ px: 2, pb: 1, color: 'text.secondary' }}>{asked.size ? words.noneOf : words.none}</Typography>
        )}
        {list.data?.length === count && count < 1000 && (
          <Button color="inherit" sx={{ m: 1 }} onClick={() => set('count', String(Math.min(count + page, 1000)))}>
            {words.more}
          </Button>
        )}
      </Section>
      <Undoable />
    </>
  )
}

// ChangedHere is what was done at a site lately.
export function ChangedHere({ site }: { site: string }) {
  const list = useQuery({ queryKey: ['site', site, 'audit'], queryFn: () => api.acts({ site, limit: '8' }) })
  return (
    <Section
      title={words.here}
      id="changes"
      aside={
        <Link component={To} to={`/audit?site=${site}`} color="text.primary">
          {words.all}
        </Link>
      }
    >
      <Trouble error={list.error} />
      {list.data?.map((a) => (
        <Done key={a.id} a={a} site={false} />
      ))}
      {list.data?.length === 0 && <Typography sx={{ px: 2, pb: 1, color: 'text.secondary' }}>{words.none}</Typography>}
    </Section>
  )
}
