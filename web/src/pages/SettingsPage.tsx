import { Box, Button, Checkbox, FormControlLabel, LinearProgress, Stack, Typography } from '@mui/material'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useRef, useState } from 'react'
import { api, type Check } from '../api'
import { say } from '../catalogue'
import { Section, Trouble } from '../parts/Sheet'
import { Titled } from '../parts/Titled'

const words = say.settings

const tone = { good: 'success.main', attention: 'warning.main', wrong: 'error.main', untried: 'text.secondary' }

function One({ of: c }: { of: Check }) {
  return (
    <Stack
      data-check={`${c.part}, ${c.name}`}
      data-standing={c.standing}
      direction="row"
      sx={{ borderTop: (t) => t.rule.hair, px: 2, py: 1 }}
    >
      <Typography sx={{ width: '6.5rem', flexShrink: 0, fontWeight: 600, color: tone[c.standing] }}>
        {words.standings[c.standing]}
      </Typography>
      <Box sx={{ minWidth: 0, overflowWrap: 'anywhere' }}>
        <Typography sx={{ fontWeight: 600 }}>
          {c.part} · {c.name}
        </Typography>
        <Typography>{c.seen}</Typography>
        {c.fix && <Typography sx={{ fontWeight: 600 }}>→ {c.fix}</Typography>}
      </Box>
    </Stack>
  )
}

// Checkup looks at the installation, and shows what is not good before what is.
function Checkup() {
  const [found, setFound] = useState<Check[]>([])
  const [state, setState] = useState<'none' | 'looking' | 'done'>('none')
  const [all, setAll] = useState(false)
  const [error, setError] = useState<Error | null>(null)
  const cancel = useRef<AbortController>(undefined)
  useEffect(() => () => cancel.current?.abort(), [])
  const look = async () => {
    setFound([])
    setError(null)
    setState('looking')
    cancel.current = new AbortController()
    const { signal } = cancel.current
    try {
      await api.checkup((c) => setFound((before) => [...before, c]), signal)
      setState('done')
    } catch (e) {
      setState('none')
      if (!signal.aborted) setError(e as Error)
    }
  }
  const unwell = found.filter((c) => c.standing !== 'good')
  const good = found.filter((c) => c.standing === 'good')
  return (
    <Section
      title={words.checkup}
      id="checkup"
      aside={
        state === 'looking' ? (
          <Button onClick={() => cancel.current?.abort()}>{words.stop}</Button>
        ) : (
          <Button variant="outlined" onClick={() => void look()}>
            {words.look}
          </Button>
        )
      }
    >
      <Typography sx={{ px: 2, pb: 1 }}>{words.about}</Typography>
      {state === 'looking' && <LinearProgress aria-label={words.looking} />}
      <Trouble error={error} />
      {unwell.map((c) => (
        <One key={c.part + c.name} of={c} />
      ))}
      {state === 'done' && (
        <Stack
          direction="row"
          data-looked={found.length}
          sx={{ borderTop: (t) => t.rule.field, px: 2, py: 1, gap: 2, alignItems: 'center' }}
        >
          <Typography>{words.tally(good.length, unwell.length)}</Typography>
          <Button color="inherit" onClick={() => setAll(!all)}>
            {all ? words.fold : words.unfold}
          </Button>
        </Stack>
      )}
      {all && good.map((c) => <One key={c.part + c.name} of={c} />)}
    </Section>
  )
}

// SettingsPage is for owners: how the installation is, and what holds for everybody.
export function SettingsPage() {
  const queries = useQueryClient()
  const settings = useQuery({ queryKey: ['settings'], queryFn: api.settings })
  const set = useMutation({ mutationFn: api.setSettings, onSuccess: () => queries.invalidateQueries({ queryKey: ['settings'] }) })
  return (
    <>
      <Titled of={words.title} />
      <Trouble error={settings.error ?? set.error} />
      <Checkup />
      {settings.data && (
        <Section title={words.everybody} id="settings">
          <Box sx={{ px: 2, pb: 1 }}>
            <FormControlLabel
              label={words.second}
              control={
                <Checkbox
                  checked={settings.data.owners_need_second_factor}
                  onChange={(e) => set.mutate({ owners_need_second_factor: e.target.checked })}
                />
              }
            />
          </Box>
        </Section>
      )}
    </>
  )
}
