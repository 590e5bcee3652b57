import { $api, api, data } from './client'
import type { components, paths } from './schema'
import { useChange } from './stale'

type Schemas = components['schemas']
export type Rollout = Schemas['Rollout']
export type ShownRollout = Schemas['ShownRollout']
export type Outlook = Schemas['Outlook']
export type Plan = Schemas['Plan']
export type NewRollout = NonNullable<
  paths['/api/v1/endpoints/{endpoint}/rollouts']['post']['requestBody']
>['content']['application/json']
export type Verb = 'hold' | 'resume' | 'speed' | 'finish' | 'end'

export const useRollouts = (endpoint?: string, open?: boolean) =>
  $api.useQuery('get', '/api/v1/rollouts', { params: { query: { endpoint, open, limit: 50 } } })

/** A rollout as it looks now; again every second while it is not over. */
export const useRollout = (rollout: string) =>
  $api.useQuery(
    'get',
    '/api/v1/rollouts/{rollout}',
    { params: { path: { rollout } } },
    { refetchInterval: (query) => (query.state.data?.ended_at ? false : 1000) },
  )

export const usePlans = () => $api.useQuery('get', '/api/v1/plans', { params: { query: { limit: 200 } } })

/** What a rollout would do; again every few seconds, because traffic changes. */
export const useOutlook = (endpoint: string, body: NewRollout) =>
  $api.useQuery(
    'post',
    '/api/v1/endpoints/{endpoint}/rollouts/preview',
    { params: { path: { endpoint } }, body },
    { enabled: body.to !== '', refetchInterval: 10_000, placeholderData: (before) => before, retry: false },
  )

export const useStartRollout = (endpoint: string) =>
  useChange(
    (body: NewRollout) =>
      data(api.POST('/api/v1/endpoints/{endpoint}/rollouts', { params: { path: { endpoint } }, body })),
    ['endpoints', 'rollouts'],
  )

export const useChangeRollout = (rollout: string) =>
  useChange(
    (body: { do: Verb; reason: string }) =>
      data(api.POST('/api/v1/rollouts/{rollout}', { params: { path: { rollout } }, body })),
    ['endpoints', 'rollouts'],
  )
