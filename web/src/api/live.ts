import { useEffect, useState } from 'react'

import type { EndpointNow, Entry } from './client'
import { queryClient } from './queries'

/** Which queries a kind of change makes stale, by the first word of the kind. */
const stale: Record<string, string[]> = {
  model: ['models'],
  version: ['models', 'promotions'],
  label: ['models'],
  run: ['runs', 'models'],
  data: ['data', 'models'],
  project: ['projects'],
  promotion: ['promotions', 'models'],
  evidence: ['evidence', 'promotions'],
  ladder: ['ladder', 'promotions'],
  signing_key: ['signing-keys'],
  placement: ['placements', 'endpoints', 'promotions'],
  endpoint: ['endpoints'],
  split: ['endpoints', 'series', 'comparison'],
  alert: ['alerts', 'series'],
  member: ['people', 'session'],
  person: ['people', 'session'],
  role: ['people', 'session'],
  token: ['tokens'],
  caller: ['callers', 'endpoints'],
  webhook: ['webhooks'],
  delivery: ['webhooks'],
  settings: ['settings'],
  secret: ['settings'],
  search: ['searches'],
}

/** Opens the stream of events and acts on what comes; returns what closes it. */
function listen(connected: (yes: boolean) => void): () => void {
  const source = new EventSource('/api/v1/events')
  // What was read before the service began to tell may be stale. A stream that is taken up after a change goes on
  // from there.
  let told = false
  source.addEventListener('open', () => {
    connected(true)
    if (!told) void queryClient.invalidateQueries()
  })
  source.addEventListener('error', () => connected(false))
  // So much was missed that it is not told: everything may be stale.
  source.addEventListener('anew', () => void queryClient.invalidateQueries())
  source.addEventListener('now', (event) => {
    queryClient.setQueryData(['now'], JSON.parse(event.data as string) as EndpointNow[])
  })
  source.addEventListener('change', (event) => {
    told = true
    const entry = JSON.parse(event.data as string) as Entry
    for (const key of ['activity', 'audit', 'inbox', 'session', ...(stale[entry.kind.split('.')[0] ?? ''] ?? [])]) {
      void queryClient.invalidateQueries({ queryKey: [key] })
    }
  })
  return () => source.close()
}

/**
 * Keeps what was read up to date by the service's events while the page can be seen. Tells whether it is connected.
 *
 * A page that nobody sees holds no connection: a browser has only six to one server, so a few forgotten tabs would
 * leave none for anything else. When it is seen again, everything is read again.
 */
export function useLive(): boolean {
  const [connected, setConnected] = useState(true)
  useEffect(() => {
    let close: (() => void) | undefined
    const follow = () => {
      const visible = document.visibilityState === 'visible'
      if (visible && !close) {
        close = listen(setConnected)
      } else if (!visible && close) {
        close()
        close = undefined
      }
    }
    const leave = () => {
      close?.()
      close = undefined
    }
    follow()
    document.addEventListener('visibilitychange', follow)
    window.addEventListener('pagehide', leave)
    window.addEventListener('pageshow', follow)
    return () => {
      document.removeEventListener('visibilitychange', follow)
      window.removeEventListener('pagehide', leave)
      window.removeEventListener('pageshow', follow)
      leave()
    }
  }, [])
  return connected
}
