import { Box, Button, Link, Stack, TextField, Typography } from '@mui/material'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link as To, useParams } from 'react-router'
import { api, at, Problem, type CommissioningEntry } from '../api'
import { say } from '../catalogue'
import { useAnswers } from '../parts/answers'
import { Explained } from '../parts/FaultCard'
import { Section, Trouble } from '../parts/Sheet'
import { Titled } from '../parts/Titled'
import { Ago } from '../parts/Ago'
import { OfSite } from '../parts/Crumbs'
import { same, type Kept } from '../parts/answers'
import { toneOf } from '../words'

const words = say.commissioning

const tones = { done: 'proven', skipped: 'unproven', failing: 'broken', waiting: 'unsettled', later: 'unproven' } as const

// Mark shows how a step stands by its texture, so that it is told apart in print too.
function Mark({ state }: { state: CommissioningEntry['state'] }) {
  const fill = {
    done: { bgcolor: 'text.primary' },
    skipped: { backgroundImage: 'repeating-linear-gradient(45deg, currentColor 0 1px, transparent 1px 4px)' },
    failing: { borderStyle: 'dashed', borderColor: 'error.main', borderWidth: 2 },
    waiting: { borderWidth: 2 },
    later: { borderStyle: 'dotted' },
  }[state]
  return (
    <Box aria-hidden sx={{ width: 14, height: 14, mt: '3px', flexShrink: 0, border: '1px solid', borderColor: 'text.primary', ...fill }} />
  )
}

function Over({ e, again }: { e: CommissioningEntry; again?: () => void }) {
  return (
    <Stack direction="row" data-step={e.step} data-state={e.state} sx={{ gap: 1.5, px: 2, py: 0.75, borderTop: (t) => t.rule.hair }}>
      <Mark state={e.state} />
      <Box sx={{ flex: 1, minWidth: 0 }}>
        <Typography sx={{ fontWeight: 600, overflowWrap: 'anywhere' }}>
          {e.title}
          {e.subject && (
            <Typography component="span" variant="label">
              {' '}
              {e.subject}
            </Typography>
          )}
        </Typography>
        {e.state !== 'later' && (
          <Typography variant="body2" sx={{ color: 'text.secondary', overflowWrap: 'anywhere' }}>
            {e.words}
            {e.at && (
              <>
                {' · '}
                {e.by || words.seen} <Ago at={e.at} />
              </>
            )}
          </Typography>
        )}
      </Box>
      {again && (
        <Button size="small" onClick={again} aria-label={words.againOf(e.title)}>
          {words.again}
        </Button>
      )}
    </Stack>
  )
}

// Due is a step to work on: what to do, what is seen, and what can be said of it.
function Due({
  site,
  e,
  waiting,
  give,
}: {
  site: string
  e: CommissioningEntry
  waiting?: Kept
  give: (a: Pick<Kept, 'state' | 'words'>) => void
}) {
  const [note, setNote] = useState('')
  const [passing, setPassing] = useState(false)
  const queries = useQueryClient()
  const prove = useMutation({
    mutationFn: () => api.proveStep(site, e.subject.replace(/^service /, '')),
    onSettled: () => void queries.invalidateQueries({ queryKey: ['commissioning', site] }),
  })
  return (
    <Box data-step={e.step} data-state={e.state} sx={{ borderTop: (t) => t.rule.section, px: 2, py: 1.5, display: 'grid', gap: 1 }}>
      <Stack direction="row" sx={{ gap: 1.5 }}>
        <Mark state={e.state} />
        <Box sx={{ flex: 1 }}>
          <Typography variant="value" component="h3" sx={{ m: 0 }}>
            {e.title}
          </Typography>
          <Typography variant="label">{e.subject}</Typography>
        </Box>
      </Stack>
      {e.finding ? <Explained finding={e.finding} /> : e.next && <Typography sx={{ fontWeight: 600 }}>{e.next}</Typography>}
      {!e.finding && !e.next && <Typography>{e.do}</Typography>}
      <Typography data-seen sx={{ color: toneOf[tones[e.state]], overflowWrap: 'anywhere' }}>
        {words.states[e.state]}
        {e.words !== e.finding?.summary && `: ${e.words}`}
      </Typography>
      {e.cards?.map((card) => (
        <Box key={card.title} sx={{ border: (t) => t.rule.field }}>
          <Typography variant="label" component="div" sx={{ px: 1, pt: 0.5 }}>
            {card.title}: {card.where}
          </Typography>
          {card.fields.map((f) => (
            <Stack key={f.label} direction="row" sx={{ borderTop: (t) => t.rule.hair, px: 1, gap: 1 }}>
              <Typography variant="label" sx={{ width: '8rem', py: 0.5 }}>
                {f.label}
              </Typography>
              <Typography variant="mono" sx={{ py: 0.25 }}>
                {f.value}
              </Typography>
            </Stack>
          ))}
          {card.note && (
            <Typography variant="body2" sx={{ px: 1, py: 0.5, borderTop: (t) => t.rule.hair }}>
              {card.note}
            </Typography>
          )}
        </Box>
      ))}
      <Trouble error={prove.error} />
      {prove.data && !prove.data.proven && (
        <Typography>
          {prove.data.words}. {prove.data.next_step}
        </Typography>
      )}
      {waiting ? (
        <Typography role="status">{words.kept(words.states[waiting.state])}</Typography>
      ) : passing ? (
        <>
          <TextField label={words.why} value={note} onChange={(x) => setNote(x.target.value)} autoFocus />
          <Stack direction="row" sx={{ gap: 1 }}>
            <Button
              variant="contained"
              sx={{ flex: 1, minHeight: 48 }}
              disabled={!note.trim() && !e.optional}
              onClick={() => give({ state: 'skipped', words: note })}
            >
              {words.skip}
            </Button>
            <Button variant="outlined" sx={{ minHeight: 48 }} onClick={() => setPassing(false)}>
              {say.form.cancel}
            </Button>
          </Stack>
        </>
      ) : (
        <Stack direction="row" sx={{ gap: 1, flexWrap: 'wrap' }}>
          {e.by_word && (
            <Button variant="contained" sx={{ flex: 1, minHeight: 48 }} onClick={() => give({ state: 'done', words: '' })}>
              {words.done}
            </Button>
          )}
          {e.provable && (
            <Button variant="outlined" sx={{ minHeight: 48 }} disabled={prove.isPending} onClick={() => prove.mutate()}>
              {prove.isPending ? words.proving : words.prove}
            </Button>
          )}
          <Button variant="outlined" sx={{ minHeight: 48 }} onClick={() => setPassing(true)}>
            {words.skip}
          </Button>
        </Stack>
      )}
    </Box>
  )
}

const followEvery = 2000

// CommissioningPage goes through the steps of an installation, one under the other, for one thumb.
export function CommissioningPage() {
  const { code = '' } = useParams()
  const queries = useQueryClient()
  const run = useQuery({ queryKey: ['commissioning', code], queryFn: () => api.commissioning(code), refetchInterval: followEvery })
  const { waiting, give, error } = useAnswers(code)
  const changed = () => void queries.invalidateQueries({ queryKey: ['commissioning', code] })
  const begin = useMutation({ mutationFn: () => api.commission(code), onSuccess: changed })
  const end = useMutation({ mutationFn: () => api.endCommissioning(code), onSuccess: changed })
  const c = run.data
  const none = run.error instanceof Problem && run.error.status === 404
  const due = (e: CommissioningEntry) => !c?.ended && (e.state === 'waiting' || e.state === 'failing')
  return (
    <Box sx={{ maxWidth: (t) => t.draw.column / 1.6, mx: 'auto' }}>
      <Titled of={words.of(code)} />
      <OfSite code={code} here={words.title} />
      <Section
        title={words.title}
        id="commissioning"
        aside={
          <Link component={To} to={at('sites', code)} color="text.primary">
            {c ? `${c.site} ${c.site_name}` : code}
          </Link>
        }
      >
        <Box sx={{ px: 2, pb: 1 }}>
          {c && <Typography data-progress>{words.progress(c.entries.length - c.open, c.entries.length)}</Typography>}
          {c && (
            <Typography variant="body2" sx={{ color: 'text.secondary' }}>
              {words.began(c.by)} <Ago at={c.began} />
              {c.ended && (
                <>
                  {`, ${words.ended(c.ended_by ?? '')} `}
                  <Ago at={c.ended} />
                </>
              )}
            </Typography>
          )}
          <Trouble error={none ? null : run.error} />
          <Trouble error={error ?? begin.error ?? end.error} />
          {(none || c?.ended) && (
            <Button variant="contained" sx={{ minHeight: 48, mt: 1 }} onClick={() => begin.mutate()}>
              {words.begin}
            </Button>
          )}
          {none && <Typography sx={{ mt: 1 }}>{words.about}</Typography>}
        </Box>
        {c?.entries.map((e) => {
          const key = e.step + e.subject
          const mine = waiting.find((k) => same(k, e))
          if (due(e))
            return <Due key={key} site={code} e={e} waiting={mine} give={(a) => give({ step: e.step, subject: e.subject, ...a })} />
          const again = () => give({ step: e.step, subject: e.subject, state: 'waiting', words: '' })
          return <Over key={key} e={e} again={!c.ended && e.state !== 'later' && e.by ? again : undefined} />
        })}
        {c && !c.ended && (
          <Box sx={{ px: 2, py: 1.5, borderTop: (t) => t.rule.section }}>
            <Button variant={c.finished ? 'contained' : 'outlined'} sx={{ minHeight: 48 }} onClick={() => end.mutate()}>
              {c.finished ? words.finish : words.leave}
            </Button>
          </Box>
        )}
      </Section>
    </Box>
  )
}
