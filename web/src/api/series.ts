import { useQuery, useQueryClient } from '@tanstack/react-query'

import { $api, api, data, type Series } from './client'

/** How often what is new is asked for, in milliseconds. */
const every = 2000

/**
 * What an endpoint did over a window that ends at a moment, or now. What goes on is read once, and then only what is
 * new is asked for and put behind it.
 */
export function useSeries(endpoint: string, window: string, until?: string) {
  const client = useQueryClient()
  const whole = $api.queryOptions('get', '/api/v1/endpoints/{endpoint}/series', {
    params: { path: { endpoint }, query: { window, ...(until && { until }) } },
  })
  const query = useQuery({ ...whole, placeholderData: (before: Series | undefined) => before, staleTime: Infinity })
  const there = query.data !== undefined && !query.isPlaceholderData
  useQuery({
    queryKey: ['series', 'new', endpoint, window],
    enabled: there && until === undefined,
    refetchInterval: every,
    queryFn: async () => {
      const known = client.getQueryData<Series>(whole.queryKey)
      if (!known) return null
      // The last step was not over yet.
      const after = new Date(Date.parse(known.to) - 2 * known.step_ms).toISOString()
      const fresh = await data(
        api.GET('/api/v1/endpoints/{endpoint}/series', { params: { path: { endpoint }, query: { window, after } } }),
      )
      client.setQueryData<Series>(whole.queryKey, (now) => now && continued(now, fresh))
      return null
    },
  })
  return query
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
