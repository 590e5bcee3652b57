import { $api, api, data } from './client'
import type { components } from './schema'

export type Running = components['schemas']['Running']
export type Replica = components['schemas']['Replica']
export type TriedVersions = components['schemas']['TriedVersions']

/** What runs on the service's machine. It is asked again where something does; what is placed is told by events. */
export const useRunning = () =>
  $api.useQuery(
    'get',
    '/api/v1/running',
    { params: { query: { limit: 200 } } },
    {
      refetchInterval: (query) => ((query.state.data?.items.length ?? 0) > 0 ? 15_000 : false),
      placeholderData: (before) => before,
    },
  )

/** The last lines that a replica wrote, again every few seconds. */
export const useRunningLog = (environment: string, ref: string, replica: number) =>
  $api.useQuery(
    'get',
    '/api/v1/running/{environment}/{ref}/{replica}/log',
    { params: { path: { environment, ref, replica }, query: { lines: 200 } } },
    { refetchInterval: 3_000 },
  )

/** The command lines that may serve versions on the service's machine. */
export const useTemplates = () =>
  $api.useQuery('get', '/api/v1/runner-templates', { params: { query: { limit: 200 } } })

/** How callers reach the gateway. */
export const useGateway = () => $api.useQuery('get', '/api/v1/gateway')

/** Asks placed versions the same thing; nothing of it is counted. */
export const tryVersions = (body: components['schemas']['TryVersions']) => data(api.POST('/api/v1/try', { body }))

/** Says which inputs moved what versions predict for one row. */
export const explainVersions = (body: components['schemas']['ExplainVersions']) =>
  data(api.POST('/api/v1/explain', { body }))
