import { useQueryClient, type QueryClient } from '@tanstack/react-query'
import { createContext, useEffect, useMemo, useState } from 'react'

import { $api, type EndpointNow, type Entry } from './client'
import { takeNews, type Followed, type News } from './followed'
import { apply, renew } from './stale'

const now = $api.queryOptions('get', '/api/v1/now')

/** How long it is waited for more to follow before the stream is opened for it, in milliseconds. */
const moment = 50

/** The stream of the service's events, with the series that are followed. It is open while the page can be seen. */
class Live {
  private source: EventSource | undefined
  private readonly followed = new Set<Followed>()
  private soon: ReturnType<typeof setTimeout> | undefined
  private seen = false
  private last = ''

  constructor(
    private readonly client: QueryClient,
    private readonly connected: (yes: boolean) => void,
  ) {}

  /** Has what is new of a series put behind what is known of it, until what it returns is called. */
  follow = (f: Followed): (() => void) => {
    this.followed.add(f)
    this.change()
    return () => {
      this.followed.delete(f)
      this.change()
    }
  }

  /** Opens the stream when the page can be seen, and closes it when it cannot. */
  look = (visible: boolean) => {
    if (visible === this.seen) return
    this.seen = visible
    this.close()
    this.last = ''
    if (visible) this.open()
  }

  private close() {
    clearTimeout(this.soon)
    this.source?.close()
    this.source = undefined
  }

  /** Opens the stream anew, for what is followed now; what changed meanwhile is told first. */
  private change() {
    clearTimeout(this.soon)
    this.soon = setTimeout(() => {
      if (!this.seen) return
      this.close()
      this.open()
    }, moment)
  }

  private open() {
    const asked = new URLSearchParams([...this.followed].slice(-8).map((f) => ['series', f()]))
    if (this.last) asked.set('last', this.last)
    const source = new EventSource(`/api/v1/events?${asked.toString()}`)
    this.source = source
    source.addEventListener('open', () => this.connected(true))
    source.addEventListener('error', () => this.connected(false))
    // So much was missed that it is not told: everything may be stale.
    source.addEventListener('anew', (event) => {
      this.last = event.lastEventId
      void renew(this.client)
    })
    source.addEventListener('now', (event) => {
      // What was read before the service began to tell may be stale. A stream that is taken up goes on where it was.
      if (event.lastEventId && !this.last) {
        this.last = event.lastEventId
        void renew(this.client)
      }
      this.client.setQueryData(now.queryKey, JSON.parse(event.data as string) as EndpointNow[])
    })
    source.addEventListener('series', (event) => takeNews(this.client, JSON.parse(event.data as string) as News))
    source.addEventListener('change', (event) => {
      this.last = event.lastEventId
      apply(this.client, JSON.parse(event.data as string) as Entry)
    })
  }
}

/** Follows a series by the stream of events that the page has open. */
export const FollowContext = createContext<(f: Followed) => () => void>(() => () => undefined)

/**
 * Keeps what was read up to date by the service's events while the page can be seen. Tells whether it is connected, and
 * how series are followed.
 *
 * A page that nobody sees holds no connection: a browser has only six to one server, so a few forgotten tabs would
 * leave none for anything else. When it is seen again, everything is read again.
 */
export function useLive() {
  const client = useQueryClient()
  const [connected, setConnected] = useState(true)
  const live = useMemo(() => new Live(client, setConnected), [client])
  useEffect(() => {
    const look = () => live.look(document.visibilityState === 'visible')
    const leave = () => live.look(false)
    look()
    document.addEventListener('visibilitychange', look)
    window.addEventListener('pagehide', leave)
    window.addEventListener('pageshow', look)
    return () => {
      document.removeEventListener('visibilitychange', look)
      window.removeEventListener('pagehide', leave)
      window.removeEventListener('pageshow', look)
      leave()
    }
  }, [live])
  return { connected, follow: live.follow }
}
