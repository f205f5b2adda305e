import { Alert, Box, Button, LinearProgress, Stack, TextField, Typography } from '@mui/material'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api, type Review, type Site } from '../api'
import { say } from '../catalogue'
import { Ago } from '../parts/Ago'
import { Section } from '../parts/Sheet'

const words = say.exposure

function Findings({ review }: { review: Review }) {
  return (
    <>
      <Typography sx={{ px: 2, pb: 1 }}>
        {words.tried(review.ports.length, review.address)}
        <Ago at={review.started} />
        {words.open(review.open, review.person, review.consent)}
      </Typography>
      {review.findings.map((f) => (
        <Stack
          key={`${f.port} ${f.what}`}
          data-advice={f.port}
          direction="row"
          sx={{ borderTop: (t) => t.rule.hair, px: 2, py: 0.75, columnGap: 2, flexWrap: 'wrap' }}
        >
          <Typography variant="mono" sx={{ fontWeight: 600, minWidth: (t) => t.draw.word }}>
            {f.port}
          </Typography>
          <Typography sx={{ color: f.severe ? 'error.main' : 'warning.main', flex: 1, minWidth: { xs: '70%', md: 0 } }}>
            {f.severe && words.severe}
            {f.what}
            {f.service ? ` (${f.service})` : ''}
          </Typography>
          <Typography sx={{ flex: 1, minWidth: { xs: '100%', md: 0 } }}>{f.advice}</Typography>
        </Stack>
      ))}
      {review.findings.length === 0 && <Typography sx={{ px: 2, pb: 1, color: 'text.secondary' }}>{words.none}</Typography>}
    </>
  )
}

// Exposure looks, when somebody asks for it, at the site's own address for ports that are commonly left open.
export function Exposure({ site }: { site: Site }) {
  const [consent, setConsent] = useState('')
  const [share, setShare] = useState(0)
  const reviews = useQuery({ queryKey: ['reviews', site.code], queryFn: () => api.reviews(site.code) })
  const review = useMutation({ mutationFn: () => api.review(site.code, consent, setShare), onSettled: () => reviews.refetch() })
  const last = review.data?.review ?? reviews.data?.[0]
  return (
    <Section
      title={words.title}
      id="exposure"
      aside={
        <Stack direction="row" sx={{ gap: 1, alignItems: 'center', flexWrap: 'wrap' }}>
          <TextField
            size="small"
            fullWidth={false}
            name="consent"
            label={words.consent}
            value={consent}
            onChange={(e) => setConsent(e.target.value)}
          />
          <Button
            size="small"
            variant="outlined"
            disabled={review.isPending || consent.trim().length < 10}
            onClick={() => {
              setShare(0)
              review.mutate()
            }}
          >
            {words.review}
          </Button>
        </Stack>
      }
    >
      {review.isPending && (
        <Box sx={{ px: 2, pb: 1 }}>
          <Typography>{Math.round(100 * share)} %</Typography>
          <LinearProgress variant="determinate" value={100 * share} aria-label={words.review} />
        </Box>
      )}
      {review.error && (
        <Alert severity="error" sx={{ mx: 2, mb: 1 }}>
          {review.error.message}
        </Alert>
      )}
      {last?.ended ? <Findings review={last} /> : <Typography sx={{ px: 2, pb: 1, color: 'text.secondary' }}>{words.about}</Typography>}
    </Section>
  )
}
