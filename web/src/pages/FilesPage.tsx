import { Alert, Box, Button, LinearProgress, Link, MenuItem, Stack, TextField, Typography } from '@mui/material'
import { visuallyHidden } from '@mui/utils'
import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useRef, useState, type ChangeEvent } from 'react'
import { api, type Declared } from '../api'
import { say } from '../catalogue'
import { Crumbs } from '../parts/Crumbs'
import { useSession } from '../parts/session'
import { Section, Trouble } from '../parts/Sheet'
import { Titled } from '../parts/Titled'

const words = say.files

// shown is how many steps and mistakes are listed.
const shown = 200

function counted(d: Declared, say: (add: number, change: number, remove: number, same: number) => string): string {
  const n = (action: string) => d.steps.filter((s) => s.action === action).length
  return say(n('add'), n('change'), n('remove'), d.unchanged)
}

const text = (v: unknown) => (v === undefined || v === null ? '' : typeof v === 'string' ? v : JSON.stringify(v))

// Outcome is what a file comes to, and what is wrong with it.
function Outcome({ of: d }: { of: Declared }) {
  const flaws = d.flaws ?? []
  return (
    <Box data-outcome={d.done ? 'done' : 'plan'} sx={{ px: 2, pb: 1 }}>
      {flaws.length > 0 && <Alert severity="error">{d.done ? words.left(flaws.length) : words.wrong(flaws.length)}</Alert>}
      {flaws.slice(0, shown).map((f, i) => (
        <Stack key={i} data-flaw={f.line} direction="row" sx={{ borderTop: (t) => t.rule.hair, py: 0.5, columnGap: 2 }}>
          <Typography variant="mono" sx={{ width: '12rem', flexShrink: 0 }}>
            {words.line(f.line, f.column ?? '')}
          </Typography>
          <Typography sx={{ overflowWrap: 'anywhere' }}>{f.detail}</Typography>
        </Stack>
      ))}
      {flaws.length > shown && <Typography>{words.more(flaws.length - shown)}</Typography>}
      <Typography sx={{ fontWeight: 600, mt: 1 }}>{counted(d, d.done ? words.done : words.plan)}</Typography>
      {d.steps.slice(0, shown).map((s, i) => (
        <Stack key={i} data-step={s.action} direction="row" sx={{ borderTop: (t) => t.rule.hair, py: 0.5, columnGap: 2, flexWrap: 'wrap' }}>
          <Typography
            sx={{ width: '5rem', fontWeight: 600, color: { add: 'success.main', change: 'warning.main', remove: 'error.main' }[s.action] }}
          >
            {s.action}
          </Typography>
          <Typography sx={{ width: '7rem', fontFamily: (t) => t.font.label, fontWeight: 700 }}>{s.site}</Typography>
          <Typography sx={{ width: '12rem' }}>
            {s.kind} {s.kind === 'site' ? '' : s.name}
          </Typography>
          <Typography variant="mono" sx={{ flex: 1, overflowWrap: 'anywhere' }}>
            {(s.fields ?? []).map((f) => `${f.field} ${s.action === 'change' ? `${text(f.before)} → ` : ''}${text(f.after)}`).join(', ')}
          </Typography>
        </Stack>
      ))}
      {d.steps.length > shown && <Typography>{words.more(d.steps.length - shown)}</Typography>}
    </Box>
  )
}

// headingOf is the first line of a CSV file, cell by cell.
async function headingOf(file: File): Promise<string[]> {
  const line = (await file.slice(0, 64 << 10).text()).replace(/^\uFEFF/, '').split(/\r?\n/)[0]
  const separator = [',', ';', '\t'].sort((a, b) => line.split(b).length - line.split(a).length)[0]
  return line.split(separator).map((h) => h.trim().replace(/^"|"$/g, ''))
}

// Take takes a file over: what it would do first, then doing it.
function Take() {
  const queries = useQueryClient()
  const [file, setFile] = useState<File>()
  const [kind, setKind] = useState('sites')
  const [heading, setHeading] = useState<string[]>([])
  const [mapped, setMapped] = useState<Record<string, string>>({})
  const [result, setResult] = useState<Declared>()
  const [error, setError] = useState<Error | null>(null)
  const [share, setShare] = useState<[number, number]>()
  const cancel = useRef<AbortController>(undefined)
  const csv = file !== undefined && /\.(csv|txt|tsv)$/i.test(file.name)
  const fields = useQuery({ queryKey: ['record fields', kind], queryFn: () => api.recordFields(kind), staleTime: Infinity }).data ?? []
  // What a heading stands for, unless somebody says otherwise: the field that is called so, or none.
  const means = (h: string) => mapped[h] ?? fields.find((f) => f === h.toLowerCase().replaceAll(' ', '_')) ?? ''
  const run = async (how: { dry_run?: boolean; line_by_line?: boolean }) => {
    if (!file) return
    setError(null)
    setShare([0, 1])
    cancel.current = new AbortController()
    try {
      const type = csv ? 'text/csv' : /\.json$/i.test(file.name) ? 'application/json' : 'application/yaml'
      const query: [string, string][] = Object.entries(how).map(([k]) => [k, 'true'])
      if (csv) query.push(['kind', kind], ...heading.map((h): [string, string] => ['column', `${h}=${means(h)}`]))
      setResult(await api.declare(file, type, query, (n, of) => setShare([n, of]), cancel.current.signal))
      if (!how.dry_run) await queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'session' })
    } catch (e) {
      setResult(undefined)
      setError(cancel.current.signal.aborted ? new Error(words.stopped) : (e as Error))
    } finally {
      setShare(undefined)
    }
  }
  const choose = async (f?: File) => {
    setFile(f)
    setResult(undefined)
    setError(null)
    setMapped({})
    setHeading(f ? await headingOf(f) : [])
  }
  const plan = result && !result.done ? result : undefined
  const wrong = (plan?.flaws?.length ?? 0) > 0
  return (
    <Section title={words.take} id="take">
      <Typography sx={{ px: 2, pb: 1 }}>{words.about}</Typography>
      <Stack direction="row" sx={{ px: 2, pb: 1, gap: 1, alignItems: 'center', flexWrap: 'wrap' }}>
        <Button component="label" role={undefined} tabIndex={-1} variant="outlined">
          {file ? file.name : words.choose}
          <Box
            component="input"
            sx={visuallyHidden}
            type="file"
            name="file"
            accept=".csv,.tsv,.txt,.yaml,.yml,.json"
            onChange={(e: ChangeEvent<HTMLInputElement>) => {
              void choose(e.target.files?.[0])
              e.target.value = ''
            }}
          />
        </Button>
        {csv && (
          <TextField
            select
            size="small"
            fullWidth={false}
            name="kind"
            label={words.kind}
            value={kind}
            onChange={(e) => setKind(e.target.value)}
            sx={{ minWidth: '11rem' }}
          >
            {words.kinds.map((k) => (
              <MenuItem key={k} value={k}>
                {k}
              </MenuItem>
            ))}
          </TextField>
        )}
        {csv && <Link href={`/api/v1/record?format=csv&template=true&kind=${kind}`}>{words.template}</Link>}
      </Stack>
      {csv && (
        <Box sx={{ px: 2, pb: 1 }}>
          <Typography variant="label">{words.heading}</Typography>
          <Stack direction="row" sx={{ gap: 1, flexWrap: 'wrap', mt: 1 }}>
            {heading.map((h) => (
              <TextField
                key={h}
                select
                size="small"
                fullWidth={false}
                label={words.field(h)}
                value={means(h)}
                onChange={(e) => setMapped({ ...mapped, [h]: e.target.value })}
                sx={{ minWidth: '10rem' }}
                slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}
              >
                <MenuItem value="">{words.passOver}</MenuItem>
                {fields.map((f) => (
                  <MenuItem key={f} value={f}>
                    {f}
                  </MenuItem>
                ))}
              </TextField>
            ))}
          </Stack>
        </Box>
      )}
      <Stack direction="row" sx={{ px: 2, pb: 1, gap: 1, flexWrap: 'wrap' }}>
        <Button
          variant={plan ? 'outlined' : 'contained'}
          disabled={!file || share !== undefined}
          onClick={() => void run({ dry_run: true })}
        >
          {words.look}
        </Button>
        {plan && !wrong && plan.steps.length > 0 && (
          <Button variant="contained" disabled={share !== undefined} onClick={() => void run({})}>
            {words.apply}
          </Button>
        )}
        {plan && wrong && plan.steps.length > 0 && csv && (
          <Button variant="outlined" disabled={share !== undefined} onClick={() => void run({ line_by_line: true })}>
            {words.applyRight}
          </Button>
        )}
        {share && (
          <Button variant="outlined" onClick={() => cancel.current?.abort()}>
            {words.stop}
          </Button>
        )}
      </Stack>
      {share && (
        <Box sx={{ px: 2, pb: 1 }} role="status">
          <LinearProgress variant="determinate" value={(100 * share[0]) / share[1]} aria-label={words.progress(share[0], share[1])} />
          <Typography variant="body2">{words.progress(share[0], share[1])}</Typography>
        </Box>
      )}
      <Box sx={{ px: 2 }}>
        <Trouble error={error} />
      </Box>
      {result && <Outcome of={result} />}
    </Section>
  )
}

// FilesPage takes the record from files, and gives it as files.
export function FilesPage() {
  const may = useSession().role !== 'viewer'
  return (
    <>
      <Titled of={words.title} />
      <Crumbs here={words.title} />
      {may && <Take />}
      <Section title={words.give} id="give">
        <Stack direction="row" sx={{ px: 2, pb: 1, gap: 2, flexWrap: 'wrap' }}>
          <Typography>{words.whole}</Typography>
          {['yaml', 'json'].map((f) => (
            <Link key={f} href={`/api/v1/record?format=${f}`}>
              {f.toUpperCase()}
            </Link>
          ))}
          <Typography>{words.one}</Typography>
          {words.kinds.map((k) => (
            <Link key={k} href={`/api/v1/record?format=csv&kind=${k}`}>
              {k}
            </Link>
          ))}
        </Stack>
      </Section>
    </>
  )
}
