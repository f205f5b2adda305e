import { useEffect, useState } from 'react'
import { useMutation, useQueryClient } from '@tanstack/react-query'
import { api, Problem, type CommissioningAnswer } from '../api'

// Answers are kept on this device until the server has them: a cellar has no connection.
const place = 'inkpost.answers'

export type Kept = Required<CommissioningAnswer> & { site: string }

export const same = (a: { step: string; subject: string }, b: { step: string; subject: string }) =>
  a.step === b.step && a.subject === b.subject

export function kept(): Kept[] {
  try {
    return JSON.parse(localStorage.getItem(place) ?? '[]') as Kept[]
  } catch {
    return []
  }
}

function keep(list: Kept[]) {
  localStorage.setItem(place, JSON.stringify(list))
}

// away reports whether sending failed because nobody answered: that is tried again. What the server refuses is not.
export const away = (err: unknown) => err instanceof Problem && (err.status === 0 || err.status >= 500)

// flush sends what is kept, in order, and keeps what could not be sent. It returns what the server refused.
export async function flush(send: (a: Kept) => Promise<unknown>): Promise<Error | null> {
  for (;;) {
    const [first] = kept()
    if (!first) return null
    try {
      await send(first)
      keep(kept().filter((k) => k.at !== first.at || !same(k, first)))
    } catch (err) {
      if (away(err)) return null
      keep(kept().filter((k) => k.at !== first.at || !same(k, first)))
      return err as Error
    }
  }
}

const retryEvery = 5000

// useAnswers gives the answers for a site that wait to be sent, and a way to give another.
export function useAnswers(site: string) {
  const queries = useQueryClient()
  const [waiting, setWaiting] = useState(() => kept().filter((k) => k.site === site))
  const send = useMutation({
    mutationFn: async () => {
      const refused = await flush((a) => {
        const { site, ...answer } = a
        return api.answerStep(site, answer)
      })
      if (refused) throw refused
    },
    onSettled: () => {
      setWaiting(kept().filter((k) => k.site === site))
      void queries.invalidateQueries({ queryKey: ['commissioning', site] })
    },
    networkMode: 'always',
  })
  const { mutate } = send
  useEffect(() => {
    const again = () => {
      if (kept().length > 0) mutate()
    }
    again()
    const timer = setInterval(again, retryEvery)
    addEventListener('online', again)
    return () => {
      clearInterval(timer)
      removeEventListener('online', again)
    }
  }, [mutate])
  const give = (answer: Omit<Kept, 'site' | 'at'>) => {
    keep([...kept().filter((k) => k.site !== site || !same(k, answer)), { ...answer, site, at: new Date().toISOString() }])
    setWaiting(kept().filter((k) => k.site === site))
    mutate()
  }
  return { waiting, give, error: send.error }
}
