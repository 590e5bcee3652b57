import { $api, api, data } from './client'
import type { paths } from './schema'
import { useChange } from './stale'

export type NewWatch = NonNullable<
  paths['/api/v1/endpoints/{endpoint}/watches']['post']['requestBody']
>['content']['application/json']

export const useWatches = (endpoint: string) =>
  $api.useQuery(
    'get',
    '/api/v1/endpoints/{endpoint}/watches',
    { params: { path: { endpoint } } },
    { refetchInterval: 5000 },
  )

/** Has one signal watched otherwise. */
export const useSetWatch = (endpoint: string) =>
  useChange(
    (body: NewWatch) =>
      data(api.POST('/api/v1/endpoints/{endpoint}/watches', { params: { path: { endpoint } }, body })),
    ['endpoints'],
  )

/** Has a signal watched as usual again. */
export const useRemoveWatch = (endpoint: string) =>
  useChange(
    (of: { watch: string; reason: string }) =>
      data(
        api.DELETE('/api/v1/endpoints/{endpoint}/watches/{watch}', {
          params: { path: { endpoint, watch: of.watch }, query: { reason: of.reason } },
        }),
      ),
    ['endpoints'],
  )

/** Has it watched as a file says, which was made from a revision. */
export const usePutWatches = (endpoint: string, revision: number) =>
  useChange(
    (body: { text: string; reason: string }) =>
      data(
        api.PUT('/api/v1/endpoints/{endpoint}/watches', {
          params: { path: { endpoint }, header: { 'If-Match': `"${revision}"` } },
          body,
        }),
      ),
    ['endpoints'],
  )

export const useMute = (endpoint: string) =>
  useChange(
    (body: { subject: string; for: string; reason: string }) =>
      data(api.POST('/api/v1/endpoints/{endpoint}/mutes', { params: { path: { endpoint } }, body })),
    ['endpoints'],
  )

export const useUnmute = (endpoint: string) =>
  useChange(
    (subject: string) =>
      data(api.DELETE('/api/v1/endpoints/{endpoint}/mutes/{subject}', { params: { path: { endpoint, subject } } })),
    ['endpoints'],
  )
