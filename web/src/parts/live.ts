import { useQueryClient, type QueryKey } from '@tanstack/react-query'
import { useEffect, useState } from 'react'

// What pages keep of one site stands under [kind, code, …]; lists that have a line of every site stand under their kind.
const ofSites = new Set(['site', 'moves', 'cards', 'availability', 'history', 'reviews', 'lan', 'suggestion', 'commissioning', 'handover'])
const lists = new Set(['overview', 'sites', 'faults', 'notices', 'hostnames', 'aliases', 'movesBy'])

// An event of a site changes what is kept of that site, and the lists; one of no site may change anything. Who is signed in
// changes with neither.
export function touched(sites: Set<string>, everything: boolean, key: QueryKey): boolean {
  const kind = String(key[0])
  if (kind === 'session') return false
  if (everything || lists.has(kind)) return true
  return ofSites.has(kind) && sites.has(String(key[1]))
}

// How long to wait before a stream that was refused is asked for again, in milliseconds: longer each time.
const firstPause = 2000
const longestPause = 30_000

// useLive listens to the server's events and has what they are about read anew. It reports whether the connection to the server is up.
export function useLive(): boolean {
  const queries = useQueryClient()
  const [up, setUp] = useState(true)
  useEffect(() => {
    let timer: ReturnType<typeof setTimeout> | undefined
    let sites = new Set<string>()
    let everything = false
    // Many events come at once; one reading after the first of them, and one after the last, are enough.
    const reread = (site: string) => {
      if (site) sites.add(site)
      else everything = true
      timer ??= setTimeout(() => {
        const [of, all] = [sites, everything]
        timer = undefined
        sites = new Set()
        everything = false
        void queries.invalidateQueries({ predicate: (q) => touched(of, all, q.queryKey) })
      }, 250)
    }
    let events: EventSource | undefined
    let again: ReturnType<typeof setTimeout> | undefined
    let pause = firstPause
    const listen = () => {
      if (events && events.readyState !== EventSource.CLOSED) return
      events = new EventSource('/api/v1/events')
      events.onmessage = (e: MessageEvent<string>) => reread((JSON.parse(e.data) as { subject?: string }).subject ?? '')
      events.addEventListener('reread', () => reread(''))
      events.onopen = () => {
        setUp(true)
        pause = firstPause
        reread('')
      }
      events.onerror = () => {
        setUp(false)
        // A browser comes back to a stream that broke, and not to one that was refused, as while another server takes over.
        if (events?.readyState !== EventSource.CLOSED) return
        clearTimeout(again)
        again = setTimeout(listen, pause)
        pause = Math.min(2 * pause, longestPause)
      }
    }
    // A page that the browser keeps for the way back would hold one of its six connections; one that slept begins anew.
    const hide = () => events?.close()
    const wake = () => document.visibilityState === 'visible' && listen()
    listen()
    addEventListener('pagehide', hide)
    addEventListener('pageshow', listen)
    document.addEventListener('visibilitychange', wake)
    return () => {
      clearTimeout(timer)
      clearTimeout(again)
      removeEventListener('pagehide', hide)
      removeEventListener('pageshow', listen)
      document.removeEventListener('visibilitychange', wake)
      events?.close()
    }
  }, [queries])
  return up
}
