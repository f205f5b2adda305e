import { Alert, Box, Button, Link, Stack, TextField, Typography } from '@mui/material'
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useRef, useState } from 'react'
import { api, at, tagOf, type Site } from '../api'
import { say } from '../catalogue'
import { contactForm } from '../forms/handover'
import { Entry } from '../parts/Entry'
import { Part, Removal, type Doomed, type Form } from '../parts/Part'
import { Section, Trouble } from '../parts/Sheet'
import { exact } from '../words'

const words = say.handover

// Handover is what is kept for the next visit and for whoever takes the site over: the sheet, contacts, notes, photos.
export function Handover({ site }: { site: Site }) {
  const queries = useQueryClient()
  const base = at('sites', site.code)
  const [form, setForm] = useState<Form | null>(null)
  const [doomed, setDoomed] = useState<Doomed | null>(null)
  const [note, setNote] = useState('')
  const [whose, setWhose] = useState('')
  const file = useRef<HTMLInputElement>(null)
  const key = ['handover', site.code]
  const changed = () => void queries.invalidateQueries({ queryKey: key })
  const contacts = useQuery({ queryKey: [...key, 'contacts'], queryFn: () => api.contacts(site.code) })
  const notes = useQuery({ queryKey: [...key, 'notes'], queryFn: () => api.siteNotes(site.code) })
  const photos = useQuery({ queryKey: [...key, 'photos'], queryFn: () => api.photos(site.code) })
  const sheets = useQuery({ queryKey: [...key, 'sheets'], queryFn: () => api.sheets(site.code) })
  const links = useQuery({ queryKey: [...key, 'links'], queryFn: () => api.sheetLinks(site.code) })
  const write = useMutation({
    mutationFn: () => api.addSiteNote(site.code, note),
    onSuccess: () => {
      setNote('')
      changed()
    },
  })
  const add = useMutation({ mutationFn: (f: File) => api.addPhoto(site.code, f), onSettled: changed })
  const keep = useMutation({ mutationFn: () => api.keepSheet(site.code), onSuccess: changed })
  const share = useMutation({
    mutationFn: () => api.shareSheet(site.code, whose),
    onSuccess: () => {
      setWhose('')
      changed()
    },
  })
  const sheet = (format: string, version = 0) => `/api/v1${base}/sheet?format=${format}&version=${version}`
  const error = [contacts, notes, photos, sheets, links, write, add, keep, share].find((q) => q.error)?.error ?? null
  return (
    <Section
      title={words.title}
      id="handover"
      aside={
        <Stack direction="row" sx={{ gap: 1.5, alignItems: 'center', flexWrap: 'wrap' }}>
          {[
            ['html', words.sheet],
            ['pdf', 'PDF'],
          ].map(([format, word]) => (
            <Link key={format} href={sheet(format)} target="_blank" color="text.primary" sx={{ fontWeight: 600 }}>
              {word}
            </Link>
          ))}
          <Button variant="outlined" disabled={keep.isPending} onClick={() => keep.mutate()}>
            {words.keep}
          </Button>
        </Stack>
      }
    >
      <Box sx={{ px: 2 }}>
        <Trouble error={error} />
        {keep.data && <Alert severity="info">{words.kept(keep.data.version ?? 0, keep.data.changes)}</Alert>}
        {share.data && (
          <Alert severity="info">
            {words.shared(share.data.whose)} <strong>{new URL(share.data.url ?? '', location.origin).href}</strong>
          </Alert>
        )}
      </Box>
      <Part
        title={words.versions}
        open={setForm}
        remove={setDoomed}
        lines={(sheets.data ?? []).slice(0, 5).map((v) => ({
          key: words.version(v.version),
          words: (
            <Link href={sheet('html', v.version)} target="_blank" color="text.primary">
              {words.version(v.version)}
            </Link>
          ),
          detail: [exact(v.at), v.by, v.reason].filter(Boolean).join(', '),
        }))}
      />
      <Part
        title={words.contacts}
        add={contactForm(base)}
        open={setForm}
        remove={setDoomed}
        lines={(contacts.data ?? []).map((c) => ({
          key: c.name,
          words: c.role,
          detail: [c.name, c.phone, c.mail, c.note].filter(Boolean).join(', '),
          edit: contactForm(base, c),
          path: base + at('contacts', String(c.id)),
          tag: tagOf(c),
        }))}
      />
      <Part
        title={words.notes}
        open={setForm}
        remove={setDoomed}
        lines={(notes.data ?? []).map((n) => ({
          key: words.note(n.id),
          words: n.by,
          detail: `${exact(n.at)}: ${n.words}`,
          path: base + at('notes', String(n.id)),
        }))}
      />
      <Stack direction="row" sx={{ gap: 1, px: 2, pb: 1 }}>
        <TextField label={words.write} value={note} onChange={(e) => setNote(e.target.value)} multiline />
        <Button variant="outlined" disabled={!note.trim() || write.isPending} onClick={() => write.mutate()}>
          {words.keepNote}
        </Button>
      </Stack>
      <Box sx={{ borderTop: (t) => t.rule.field, px: 2, py: 1 }}>
        <Stack direction="row" sx={{ alignItems: 'center' }}>
          <Typography variant="label" sx={{ flex: 1 }}>
            {words.photos}
          </Typography>
          <input
            ref={file}
            type="file"
            name="photo"
            accept="image/jpeg,image/png"
            hidden
            onChange={(e) => {
              const f = e.target.files?.[0]
              if (f) add.mutate(f)
              e.target.value = ''
            }}
          />
          <Button size="small" color="inherit" disabled={add.isPending} onClick={() => file.current?.click()}>
            {add.isPending ? words.sending : words.addPhoto}
          </Button>
        </Stack>
        <Stack direction="row" sx={{ gap: 1, flexWrap: 'wrap' }}>
          {photos.data?.map((p) => (
            <Box key={p.id} data-photo={p.id} sx={{ width: (t) => t.draw.stationWidth * 1.5 }}>
              <Link href={`/api/v1${base}${at('photos', String(p.id))}`} target="_blank">
                <Box
                  component="img"
                  src={`/api/v1${base}${at('photos', String(p.id))}`}
                  alt={p.caption || words.photo(p.id)}
                  loading="lazy"
                  sx={{ width: 1, display: 'block', border: (t) => t.rule.field }}
                />
              </Link>
              <Typography variant="label">{[p.caption, exact(p.at), p.by].filter(Boolean).join(', ')}</Typography>
              <Button
                size="small"
                color="error"
                onClick={() => setDoomed({ key: words.photo(p.id), path: base + at('photos', String(p.id)) })}
                aria-label={`${say.form.remove} ${words.photo(p.id)}`}
              >
                {say.form.remove}
              </Button>
            </Box>
          ))}
        </Stack>
      </Box>
      <Part
        title={words.customers}
        open={setForm}
        remove={setDoomed}
        lines={(links.data ?? [])
          .filter((l) => !l.revoked)
          .map((l) => ({
            key: l.whose,
            words: l.whose,
            detail: words.until(exact(l.expires), l.last_used ? exact(l.last_used) : ''),
            path: base + at('sheet-links', String(l.id)),
          }))}
      />
      <Stack direction="row" sx={{ gap: 1, px: 2, pb: 1.5 }}>
        <TextField label={words.whose} value={whose} onChange={(e) => setWhose(e.target.value)} />
        <Button variant="outlined" disabled={!whose.trim()} onClick={() => share.mutate()} sx={{ whiteSpace: 'nowrap' }}>
          {words.share}
        </Button>
      </Stack>
      {form && (
        <Entry
          {...form}
          close={() => setForm(null)}
          done={() => {
            setForm(null)
            changed()
          }}
        />
      )}
      {doomed && <Removal doomed={doomed} keep={() => setDoomed(null)} removed={() => setDoomed(null)} />}
    </Section>
  )
}
