import { $api, api, data } from './client'
import type { paths } from './schema'
import { useChange } from './stale'

type Said = NonNullable<
  paths['/api/v1/endpoints/{endpoint}/custom-signals/{signal}']['put']['requestBody']
>['content']['application/json']

/** The signals of its own that an endpoint has, with what was reported of each version in a window that ends at a moment, or now. */
export const useCustomSignals = (endpoint: string, window: string, until?: string) =>
  $api.useQuery(
    'get',
    '/api/v1/endpoints/{endpoint}/custom-signals',
    { params: { path: { endpoint }, query: { window, ...(until && { until }) } } },
    { refetchInterval: 15_000, placeholderData: (before) => before },
  )

/** Says what a signal is. */
export const useSetCustomSignal = (endpoint: string) =>
  useChange(
    ({ name, ...body }: Said & { name: string }) =>
      data(
        api.PUT('/api/v1/endpoints/{endpoint}/custom-signals/{signal}', {
          params: { path: { endpoint, signal: name } },
          body,
        }),
      ),
    ['endpoints'],
  )

/** Takes a signal away. */
export const useRemoveCustomSignal = (endpoint: string, signal: string) =>
  useChange(
    (reason: string) =>
      data(
        api.DELETE('/api/v1/endpoints/{endpoint}/custom-signals/{signal}', {
          params: { path: { endpoint, signal }, query: { reason } },
        }),
      ),
    ['endpoints'],
  )
