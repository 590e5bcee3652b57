import { $api, api, data } from './client'
import type { paths } from './schema'
import { useChange } from './stale'

export type RequestFilter = NonNullable<paths['/api/v1/requests']['get']['parameters']['query']>

/** The requests of an endpoint's log that a filter leaves, part by part; again every second while it is followed. */
export const useRequests = (filter: RequestFilter, follow: boolean) =>
  $api.useInfiniteQuery(
    'get',
    '/api/v1/requests',
    { params: { query: { limit: 50, ...filter } } },
    {
      pageParamName: 'cursor',
      initialPageParam: '',
      getNextPageParam: (last) => last.next || undefined,
      placeholderData: (before) => before,
      refetchInterval: follow && 2000,
    },
  )

/** A request that has just been answered is on its way into the log for a moment. */
export const useRequest = (request: string) =>
  $api.useQuery('get', '/api/v1/requests/{request}', { params: { path: { request } } }, { retry: 2, retryDelay: 500 })

export const useLike = (request: string, wanted: boolean) =>
  $api.useQuery('get', '/api/v1/requests/{request}/like', { params: { path: { request } } }, { enabled: wanted })

export const useTryAgain = (request: string) =>
  useChange(
    (body: { version?: string }) =>
      data(api.POST('/api/v1/requests/{request}/again', { params: { path: { request } }, body })),
    [],
  )

/** What was turned away at an endpoint; without one, the requests that found none. */
export const useRefusals = (endpoint: string | undefined, window: string) =>
  $api.useQuery(
    'get',
    '/api/v1/refusals',
    { params: { query: { endpoint, window } } },
    { refetchInterval: 5000, placeholderData: (before) => before },
  )
