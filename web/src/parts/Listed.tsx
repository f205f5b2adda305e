import {
  Alert,
  Box,
  Button,
  Checkbox,
  Dialog,
  DialogActions,
  DialogContent,
  DialogTitle,
  Stack,
  TextField,
  Typography,
} from '@mui/material'
import { visuallyHidden } from '@mui/utils'
import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState, type ChangeEvent } from 'react'
import { api, at, type ListedHost } from '../api'
import { say } from '../catalogue'

const words = say.listed

const standing = (h: ListedHost) =>
  h.device
    ? h.recorded_address === h.lan_address
      ? words.onRecord(h.device)
      : words.elsewhere(h.device, h.recorded_address ?? '')
    : words.unknown

// Listed reads a list of devices as a router printed it, and puts those that are chosen on record.
export function Listed({ site, close }: { site: string; close: () => void }) {
  const queries = useQueryClient()
  const [text, setText] = useState('')
  const [chosen, setChosen] = useState<string[]>([])
  const [wrong, setWrong] = useState<string[]>([])
  const read = useMutation({ mutationFn: (list: string) => api.lanList(site, list), onSuccess: () => setChosen([]) })
  const add = useMutation({
    mutationFn: async () => {
      const wrong: string[] = []
      for (const h of read.data!.devices.filter((h) => chosen.includes(h.mac)))
        await api
          .send('POST', at('sites', site, 'devices'), h.suggested)
          .catch((e: Error) => wrong.push(`${h.suggested.name}: ${e.message}`))
      setWrong(wrong)
      await queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'session' })
      if (wrong.length === 0) close()
      else read.mutate(text)
    },
  })
  return (
    <Dialog open onClose={close} fullWidth maxWidth="sm">
      <DialogTitle variant="h2">{words.title(site)}</DialogTitle>
      <DialogContent>
        <Typography sx={{ mb: 1 }}>{words.about}</Typography>
        {(read.error ?? add.error) && <Alert severity="error">{(read.error ?? add.error)!.message}</Alert>}
        {wrong.map((w) => (
          <Alert key={w} severity="error">
            {w}
          </Alert>
        ))}
        <TextField
          multiline
          minRows={4}
          maxRows={10}
          name="list"
          label={words.list}
          value={text}
          onChange={(e) => setText(e.target.value)}
          sx={{ mt: 1 }}
          slotProps={{ htmlInput: { style: { fontFamily: 'monospace', fontSize: '0.8rem' } } }}
        />
        <Stack direction="row" sx={{ gap: 1, my: 1 }}>
          <Button component="label" role={undefined} tabIndex={-1} color="inherit">
            {words.file}
            <Box
              component="input"
              type="file"
              sx={visuallyHidden}
              onChange={(e: ChangeEvent<HTMLInputElement>) => void e.target.files?.[0]?.text().then(setText)}
            />
          </Button>
          <Button variant="outlined" disabled={!text.trim() || read.isPending} onClick={() => read.mutate(text)}>
            {words.read}
          </Button>
        </Stack>
        {read.data && <Typography sx={{ fontWeight: 600 }}>{words.found(read.data.devices.length, read.data.form)}</Typography>}
        {read.data?.devices.map((h) => (
          <Stack
            key={h.mac + h.lan_address}
            data-listed={h.mac}
            direction="row"
            sx={{ borderTop: (t) => t.rule.hair, alignItems: 'center' }}
          >
            <Checkbox
              size="small"
              disabled={Boolean(h.device)}
              checked={chosen.includes(h.mac)}
              onChange={(e) => setChosen((was) => (e.target.checked ? [...was, h.mac] : was.filter((m) => m !== h.mac)))}
              slotProps={{ input: { 'aria-label': words.choose(h.suggested.name ?? h.mac) } }}
            />
            <Box sx={{ minWidth: 0 }}>
              <Typography>{h.device || h.suggested.name}</Typography>
              <Typography variant="mono">
                {h.lan_address} {h.mac}
              </Typography>
              <Typography
                variant="body2"
                sx={{ color: h.device && h.recorded_address !== h.lan_address ? 'error.main' : 'text.secondary' }}
              >
                {standing(h)}
              </Typography>
            </Box>
          </Stack>
        ))}
      </DialogContent>
      <DialogActions sx={{ px: 3, pb: 2 }}>
        <Button color="inherit" onClick={close}>
          {say.form.cancel}
        </Button>
        <Button variant="contained" disabled={chosen.length === 0 || add.isPending} onClick={() => add.mutate()}>
          {words.add(chosen.length)}
        </Button>
      </DialogActions>
    </Dialog>
  )
}
