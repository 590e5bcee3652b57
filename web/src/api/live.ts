import { useEffect, useState } from 'react'

import type { EndpointNow, Entry } from './client'
import { queryClient } from './queries'

/** Which queries a kind of change makes stale, by the first word of the kind. */
const stale: Record<string, string[]> = {
  model: ['models'],
  version: ['models'],
  promotion: ['promotions', 'models'],
  placement: ['placements', 'endpoints'],
  endpoint: ['endpoints'],
  split: ['endpoints', 'series', 'comparison'],
  alert: ['alerts', 'series'],
}

/** Keeps what was read up to date by the service's events. Tells whether it is connected. */
export function useLive(): boolean {
  const [connected, setConnected] = useState(true)
  useEffect(() => {
    const source = new EventSource('/api/v1/events')
    source.addEventListener('open', () => setConnected(true))
    source.addEventListener('error', () => setConnected(false))
    source.addEventListener('now', (event) => {
      queryClient.setQueryData(['now'], JSON.parse(event.data as string) as EndpointNow[])
    })
    source.addEventListener('change', (event) => {
      const entry = JSON.parse(event.data as string) as Entry
      for (const key of ['audit', ...(stale[entry.kind.split('.')[0] ?? ''] ?? [])]) {
        void queryClient.invalidateQueries({ queryKey: [key] })
      }
    })
    return () => source.close()
  }, [])
  return connected
}
