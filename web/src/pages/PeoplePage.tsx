import { Alert, Typography } from '@mui/material'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api, at, type PersonInvitation } from '../api'
import { say } from '../catalogue'
import { editPerson, newPerson } from '../forms/people'
import { Entry } from '../parts/Entry'
import { Part, Removal, type Doomed, type Form } from '../parts/Part'
import { Section, Trouble } from '../parts/Sheet'
import { Titled } from '../parts/Titled'
import { useSession } from '../parts/session'
import { exact } from '../words'

const words = say.people

// PeoplePage says who may do what. An owner changes it.
export function PeoplePage() {
  const owner = useSession().role === 'owner'
  const list = useQuery({ queryKey: ['people'], queryFn: api.people })
  const invited = useQuery({ queryKey: ['people', 'invitations'], queryFn: api.invitations, enabled: owner })
  const [form, setForm] = useState<Form>()
  const [doomed, setDoomed] = useState<Doomed>()
  const [made, setMade] = useState<PersonInvitation>()
  return (
    <>
      <Titled of={words.title} />
      <Trouble error={list.error ?? invited.error} />
      {made && (
        <Alert severity="warning" data-invited={made.name} onClose={() => setMade(undefined)} sx={{ mb: 2, overflowWrap: 'anywhere' }}>
          {words.link(made.name)}
          <Typography variant="mono">{new URL(made.url!, location.origin).href}</Typography>
        </Alert>
      )}
      <Section title={words.title} id="people">
        <Part
          title={words.team}
          add={owner ? newPerson : undefined}
          open={setForm}
          remove={setDoomed}
          lines={(list.data ?? []).map((p) => ({
            key: p.name,
            words: p.name,
            detail: [words.roles[p.role], owner && words.sees(p.tags), p.waiting && words.waiting].filter(Boolean).join(', '),
            edit: owner ? editPerson(p) : undefined,
            path: owner ? at('people', p.name) : undefined,
            warning: words.removal,
          }))}
        />
        <Typography sx={{ px: 2, pb: 1, color: 'text.secondary' }}>{words.about}</Typography>
      </Section>
      {owner && (
        <Section title={words.invitations} id="invitations">
          <Part
            title={invited.data?.length === 0 ? words.noInvitations : ''}
            open={setForm}
            remove={setDoomed}
            lines={(invited.data ?? []).map((i) => ({
              key: i.name,
              words: i.name,
              detail: [words.roles[i.role], words.sees(i.tags ?? []), words.invitedBy(i.invited_by, exact(i.expires))].join(', '),
              path: at('invitations', String(i.id)),
              warning: words.takeBack,
            }))}
          />
        </Section>
      )}
      {form && (
        <Entry
          key={form.path + form.title}
          {...form}
          close={() => setForm(undefined)}
          done={(saved) => setMade((saved as PersonInvitation).url ? (saved as PersonInvitation) : undefined)}
        />
      )}
      {doomed && <Removal doomed={doomed} keep={() => setDoomed(undefined)} removed={() => setDoomed(undefined)} />}
    </>
  )
}
