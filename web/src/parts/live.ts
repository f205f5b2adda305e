import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'

// useLive listens to the server's events and has what is on the page read anew when something happened. It says whether
// the line to the server stands.
export function useLive(): boolean {
  const queries = useQueryClient()
  const [up, setUp] = useState(true)
  useEffect(() => {
    let timer: ReturnType<typeof setTimeout> | undefined
    // Many events come at once; one reading after the first of them, and one after the last, are enough.
    const reread = () => {
      timer ??= setTimeout(() => {
        timer = undefined
        void queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'session' })
      }, 150)
    }
    const events = new EventSource('/api/v1/events')
    events.onmessage = reread
    events.addEventListener('reread', reread)
    events.onopen = () => {
      setUp(true)
      reread()
    }
    events.onerror = () => setUp(false)
    return () => {
      clearTimeout(timer)
      events.close()
    }
  }, [queries])
  return up
}
