import type { QueryClient } from '@tanstack/react-query'

import { $api, type Series } from './client'

/** What the stream is asked for to follow a series: its endpoint, its window, and since when it is not known. */
export type Followed = () => string

/** What is new of a series. */
export interface News {
  endpoint: string
  window: string
  series: Series
}

/** How a series is read whole. */
export const wholeSeries = (endpoint: string, window: string, until?: string) =>
  $api.queryOptions('get', '/api/v1/endpoints/{endpoint}/series', {
    params: { path: { endpoint }, query: { window, ...(until && { until }) } },
  })

/** Puts what is new of a series behind what is known of it. */
export function takeNews(client: QueryClient, { endpoint, window, series }: News) {
  client.setQueryData<Series>(wholeSeries(endpoint, window).queryKey, (known) => known && continued(known, series))
}

const since = (at: string) => (p: { at: string }) => Date.parse(p.at) >= Date.parse(at)

/** A series with what is new behind it, and without what is older than its window. */
function continued(known: Series, fresh: Series): Series {
  const begins = new Date(Date.parse(known.from) + Date.parse(fresh.to) - Date.parse(known.to)).toISOString()
  const isOld = (p: { at: string }) => !since(fresh.from)(p)
  const joined = <P extends { at: string }>(before: P[], now: P[]) =>
    [...before.filter(isOld), ...now].filter(since(begins))
  const ids = new Set([...known.lanes, ...fresh.lanes].map((l) => `${l.lane} ${l.version}`))
  const of = (s: Series, id: string) => s.lanes.find((l) => `${l.lane} ${l.version}` === id)
  const byKey = <T>(key: (t: T) => string | number, before: T[], now: T[]) => [
    ...new Map([...before, ...now].map((t) => [key(t), t])).values(),
  ]
  return {
    ...fresh,
    from: begins,
    lanes: [...ids]
      .map((id) => {
        const [a, b] = [of(known, id), of(fresh, id)]
        return {
          lane: (a ?? b)?.lane ?? 'main',
          version: (a ?? b)?.version ?? '',
          points: joined(a?.points ?? [], b?.points ?? []),
        }
      })
      .filter((l) => l.points.length > 0),
    refused: joined(known.refused, fresh.refused),
    splits: byKey((s) => s.number, known.splits, fresh.splits).filter((s) => since(begins)({ at: s.made_at })),
    alerts: byKey((a) => a.id, known.alerts, fresh.alerts).filter((a) => since(begins)({ at: a.raised_at })),
    guards: joined(known.guards, fresh.guards),
  }
}
