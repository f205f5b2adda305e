import { Alert, Box, Button, Dialog, DialogContent, DialogTitle, Link, Stack, Typography } from '@mui/material'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api, at, type Hook, type Notice, type NoticeTrial } from '../api'
import { say } from '../catalogue'
import { addressForm, newHook, newRule, newWork, ruleName, ruleWords } from '../forms/notices'
import { Ago } from '../parts/Ago'
import { Entry } from '../parts/Entry'
import { Part, Removal, type Doomed, type Form } from '../parts/Part'
import { Section, Trouble } from '../parts/Sheet'
import { Titled } from '../parts/Titled'
import { useSession } from '../parts/session'
import { subscribe } from '../parts/subscribe'
import { exact } from '../words'

const words = say.notices
const name = (to: string) => to.replace(/^(person|hook) /, '')
const tones: Record<string, string> = { failed: 'error.main', waiting: 'warning.main', sent: 'text.primary' }

function Told({ n, open, again }: { n: Notice; open: () => void; again: () => void }) {
  return (
    <Stack
      data-notice={n.id}
      direction={{ xs: 'column', sm: 'row' }}
      sx={{ borderTop: (t) => t.rule.hair, px: 2, py: 0.5, columnGap: 2, alignItems: 'baseline' }}
    >
      <Typography variant="label" sx={{ width: '6rem', flexShrink: 0 }}>
        <Ago at={n.decided} />
      </Typography>
      <Typography sx={{ width: '10rem', flexShrink: 0, fontWeight: 600 }}>{name(n.to)}</Typography>
      <Typography sx={{ width: '7rem', flexShrink: 0, color: tones[n.state] }}>
        {n.state === 'waiting' && n.tries > 0 ? words.tried(n.tries) : words.state[n.state]}
      </Typography>
      <Box sx={{ flex: 1 }}>
        <Link component="button" color="text.primary" onClick={open} sx={{ textAlign: 'left' }}>
          {n.subject}
        </Link>
        {n.problem && (
          <Typography variant="body2" sx={{ color: 'text.secondary' }}>
            {n.problem}
          </Typography>
        )}
      </Box>
      {n.state === 'failed' && (
        <Button size="small" onClick={again}>
          {words.again}
        </Button>
      )}
    </Stack>
  )
}

function Trial({ of, close }: { of: NoticeTrial; close: () => void }) {
  return (
    <Dialog open onClose={close} fullWidth>
      <DialogTitle>{of.good ? words.good : words.bad}</DialogTitle>
      <DialogContent>
        {of.steps.map((s) => (
          <Stack key={s.step} data-step={s.step} direction="row" sx={{ gap: 2, borderTop: (t) => t.rule.hair, py: 0.5 }}>
            <Typography sx={{ width: '6rem', flexShrink: 0, fontWeight: 600, color: s.good ? 'success.main' : 'error.main' }}>
              {s.step}
            </Typography>
            <Typography sx={{ overflowWrap: 'anywhere' }}>{s.words}</Typography>
          </Stack>
        ))}
      </DialogContent>
    </Dialog>
  )
}

function Letter({ id, close }: { id: number; close: () => void }) {
  const one = useQuery({ queryKey: ['notices', id], queryFn: () => api.notice(id) })
  return (
    <Dialog open onClose={close} fullWidth>
      <DialogTitle>{one.data?.subject}</DialogTitle>
      <DialogContent>
        <Trouble error={one.error} />
        <Typography sx={{ whiteSpace: 'pre-wrap', overflowWrap: 'anywhere' }}>{one.data?.text}</Typography>
      </DialogContent>
    </Dialog>
  )
}

// NoticesPage says who is told of what, where that goes, and whether it got there.
export function NoticesPage() {
  const queries = useQueryClient()
  const log = useQuery({ queryKey: ['notices', 'log'], queryFn: api.notices, refetchInterval: 5000 })
  const rules = useQuery({ queryKey: ['notices', 'rules'], queryFn: api.noticeRules })
  const work = useQuery({ queryKey: ['faults', 'work'], queryFn: api.plannedWork })
  const people = useQuery({ queryKey: ['notices', 'people'], queryFn: api.addressees })
  const hooks = useQuery({ queryKey: ['notices', 'hooks'], queryFn: api.hooks })
  const session = useSession()
  const browsers = useQuery({ queryKey: ['notices', 'browsers'], queryFn: api.pushBrowsers })
  const here = useMutation({ mutationFn: subscribe, onSuccess: () => queries.invalidateQueries({ queryKey: ['notices'] }) })
  const [form, setForm] = useState<Form>()
  const [doomed, setDoomed] = useState<Doomed>()
  const [trial, setTrial] = useState<NoticeTrial>()
  const [letter, setLetter] = useState<number>()
  const [secret, setSecret] = useState('')
  const again = useMutation({ mutationFn: api.sendAgain, onSuccess: () => queries.invalidateQueries({ queryKey: ['notices'] }) })
  const test = useMutation({ mutationFn: api.testNotice, onSuccess: setTrial })
  const tried = (to: { person?: string; hook?: string }) => [{ word: words.test, act: () => test.mutate(to) }]
  return (
    <>
      <Titled of={say.frame.notices} />
      <Trouble
        error={
          log.error ?? work.error ?? rules.error ?? people.error ?? hooks.error ?? again.error ?? test.error ?? browsers.error ?? here.error
        }
      />
      {secret && (
        <Alert severity="warning" onClose={() => setSecret('')} sx={{ mb: 2 }}>
          {words.secret(secret)}
        </Alert>
      )}
      <Section title={words.rules} id="rules">
        <Part
          title={rules.data?.length === 0 ? words.noRules : ''}
          add={newRule(people.data?.map((p) => p.name) ?? [], hooks.data?.map((h) => h.name) ?? [])}
          open={setForm}
          remove={setDoomed}
          lines={(rules.data ?? []).map((r) => ({
            key: ruleName(r),
            words: r.person || r.hook,
            detail: ruleWords(r),
            path: at('notice-rules', String(r.id)),
          }))}
        />
      </Section>
      <Section title={words.work} id="work">
        <Part
          title={work.data?.length === 0 ? words.noWork : ''}
          add={newWork}
          open={setForm}
          remove={setDoomed}
          lines={(work.data ?? []).map((w) => ({
            key: w.where,
            words: w.where,
            tone: w.active ? 'warning.main' : undefined,
            detail: [
              w.active ? words.underWay(exact(w.until!)) : w.from ? words.toCome(exact(w.from), exact(w.until!)) : words.workOver,
              w.repeats,
              w.reason,
              w.by,
            ]
              .filter(Boolean)
              .join(', '),
            path: at('planned-work', String(w.id)),
            warning: words.endWork,
          }))}
        />
      </Section>
      <Section title={words.people} id="people">
        <Part
          title={words.ways}
          add={newHook}
          open={setForm}
          remove={setDoomed}
          lines={[
            ...(people.data ?? []).map((p) => ({
              key: p.name,
              words: p.name,
              detail: [p.mail || words.noMail, p.zone].filter(Boolean).join(', '),
              edit: addressForm(p),
              extra: tried({ person: p.name }),
            })),
            ...(hooks.data ?? []).map((h) => ({
              key: h.name,
              words: h.name,
              detail: h.url,
              path: at('hooks', h.name),
              extra: tried({ hook: h.name }),
            })),
          ]}
        />
      </Section>
      <Section
        title={words.browsers(session.name)}
        id="browsers"
        aside={
          <>
            {browsers.data?.length ? (
              <Button size="small" color="inherit" onClick={() => test.mutate({ person: session.name, way: 'push' })}>
                {words.testPush}
              </Button>
            ) : null}
            <Button variant="outlined" disabled={here.isPending} onClick={() => here.mutate()}>
              {words.here}
            </Button>
          </>
        }
      >
        <Part
          title={words.byPush}
          open={setForm}
          remove={setDoomed}
          lines={(browsers.data ?? []).map((b) => ({
            key: b.label,
            words: b.label,
            detail: words.since(exact(b.created), b.service),
            path: at('push-browsers', String(b.id)),
          }))}
        />
      </Section>
      <Section title={words.log} id="log">
        {log.data?.map((n) => (
          <Told key={n.id} n={n} open={() => setLetter(n.id)} again={() => again.mutate(n.id)} />
        ))}
        {log.data?.length === 0 && <Typography sx={{ px: 2, pb: 1, color: 'text.secondary' }}>{words.none}</Typography>}
      </Section>
      {form && (
        <Entry
          key={form.path + form.title}
          {...form}
          close={() => setForm(undefined)}
          done={(saved) => setSecret((saved as Hook).secret ?? '')}
        />
      )}
      {doomed && <Removal doomed={doomed} keep={() => setDoomed(undefined)} removed={() => setDoomed(undefined)} />}
      {trial && <Trial of={trial} close={() => setTrial(undefined)} />}
      {letter !== undefined && <Letter id={letter} close={() => setLetter(undefined)} />}
    </>
  )
}
