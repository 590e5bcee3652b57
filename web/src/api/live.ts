import { useQueryClient, type QueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'

import { $api, type EndpointNow, type Entry } from './client'
import { apply, renew } from './stale'

const now = $api.queryOptions('get', '/api/v1/now')

/** Opens the stream of events and acts on what comes; returns what closes it. */
function listen(client: QueryClient, connected: (yes: boolean) => void): () => void {
  const source = new EventSource('/api/v1/events')
  // What was read before the service began to tell may be stale. A stream that is taken up after a change goes on
  // from there.
  let told = false
  source.addEventListener('open', () => {
    connected(true)
    if (!told) void renew(client)
  })
  source.addEventListener('error', () => connected(false))
  // So much was missed that it is not told: everything may be stale.
  source.addEventListener('anew', () => void renew(client))
  source.addEventListener('now', (event) => {
    client.setQueryData(now.queryKey, JSON.parse(event.data as string) as EndpointNow[])
  })
  source.addEventListener('change', (event) => {
    told = true
    apply(client, JSON.parse(event.data as string) as Entry)
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
  const client = useQueryClient()
  const [connected, setConnected] = useState(true)
  useEffect(() => {
    let close: (() => void) | undefined
    const follow = () => {
      const visible = document.visibilityState === 'visible'
      if (visible && !close) {
        close = listen(client, setConnected)
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
  }, [client])
  return connected
}
