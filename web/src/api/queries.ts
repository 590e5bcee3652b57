import { $api, api, data, type EndpointNow, type Lane, type RouteRule } from './client'
import type { paths } from './schema'
import { registry, useChange } from './stale'

export type ModelFilter = NonNullable<paths['/api/v1/models']['get']['parameters']['query']>

export const useModels = (filter: ModelFilter = {}) =>
  $api.useQuery(
    'get',
    '/api/v1/models',
    { params: { query: { limit: 200, ...filter } } },
    { placeholderData: (before) => before },
  )

export const useModel = (model: string) =>
  $api.useQuery('get', '/api/v1/models/{model}', { params: { path: { model } } })

export const useVersions = (model: string) =>
  $api.useQuery(
    'get',
    '/api/v1/models/{model}/versions',
    { params: { path: { model }, query: { limit: 200 } } },
    { enabled: model !== '' },
  )

export const useVersion = (ref: string) => $api.useQuery('get', '/api/v1/versions/{ref}', { params: { path: { ref } } })

export const useDiff = (ref: string, other: string | undefined) =>
  $api.useQuery(
    'get',
    '/api/v1/versions/{ref}/diff/{other}',
    { params: { path: { ref, other: other ?? '' } } },
    { enabled: other !== undefined },
  )

export const usePlacements = () => $api.useQuery('get', '/api/v1/placements', { params: { query: { limit: 200 } } })

export const useEndpoints = () => $api.useQuery('get', '/api/v1/endpoints', { params: { query: { limit: 200 } } })

export const useEndpoint = (endpoint: string) =>
  $api.useQuery('get', '/api/v1/endpoints/{endpoint}', { params: { path: { endpoint } } })

export const useSplits = (endpoint: string) =>
  $api.useQuery('get', '/api/v1/endpoints/{endpoint}/splits', { params: { path: { endpoint }, query: { limit: 50 } } })

export const useContracts = (endpoint: string) =>
  $api.useQuery('get', '/api/v1/endpoints/{endpoint}/contracts', { params: { path: { endpoint } } })

export const useMakeContract = (endpoint: string) =>
  useChange(
    (body: { version: string; reason: string }) =>
      data(api.POST('/api/v1/endpoints/{endpoint}/contracts', { params: { path: { endpoint } }, body })),
    ['endpoints', 'promotions'],
  )

export const useConfirmAnswers = (ref: string) =>
  useChange(
    (body: { environment: string; reason: string }) =>
      data(api.POST('/api/v1/versions/{ref}/known-answers', { params: { path: { ref } }, body })),
    ['versions'],
  )

/**
 * Versions beside their incumbent over a window that ends at a moment, or in their last trial when no window is given;
 * again every few seconds while that goes on.
 */
export const useComparison = (
  endpoint: string,
  incumbent: string | undefined,
  candidate: string | undefined,
  window: string | undefined,
  until: string | undefined,
) =>
  $api.useQuery(
    'get',
    '/api/v1/endpoints/{endpoint}/compare',
    {
      params: { path: { endpoint }, query: { incumbent, candidate, window, until } },
    },
    {
      refetchInterval: until === undefined && 5000,
      placeholderData: (before) => before,
      enabled: incumbent === undefined || incumbent !== candidate,
    },
  )

export const useAlerts = (state?: 'open' | 'acknowledged' | 'resolved' | 'unresolved') =>
  $api.useQuery('get', '/api/v1/alerts', { params: { query: { state } } })

/** What all endpoints do now; the live connection keeps it up to date. */
export const useNow = () => $api.useQuery('get', '/api/v1/now')

export function useEndpointNow(endpoint: string): EndpointNow | undefined {
  return useNow().data?.find((n) => n.endpoint === endpoint)
}

/** The number of the split that was looked at goes with a change, so two people cannot overwrite each other. */
const based = (split: number) => ({ 'If-Match': `"${split}"` })

export const useSplit = (endpoint: string, split: number) =>
  useChange(
    (body: { lanes: Lane[]; rules: RouteRule[]; reason: string }) =>
      data(
        api.POST('/api/v1/endpoints/{endpoint}/splits', { params: { path: { endpoint }, header: based(split) }, body }),
      ),
    ['endpoints'],
  )

export const useBack = (endpoint: string, split: number) =>
  useChange(
    (body: { to?: number; reason: string }) =>
      data(
        api.POST('/api/v1/endpoints/{endpoint}/back', { params: { path: { endpoint }, header: based(split) }, body }),
      ),
    ['endpoints'],
  )

export const useHandleAlert = (alert: string) =>
  useChange(
    (body: { state: 'acknowledged' | 'resolved'; note: string }) =>
      data(api.POST('/api/v1/alerts/{alert}', { params: { path: { alert } }, body })),
    ['alerts'],
  )

export type Search = NonNullable<paths['/api/v1/catalogue']['get']['parameters']['query']>

/** The versions of all models that a search leaves, part by part. */
export const useCatalogue = (search: Search) =>
  $api.useInfiniteQuery(
    'get',
    '/api/v1/catalogue',
    { params: { query: { limit: 40, ...search } } },
    {
      pageParamName: 'cursor',
      initialPageParam: '',
      getNextPageParam: (last) => last.next_cursor || undefined,
      placeholderData: (before) => before,
    },
  )

export const useVocabulary = () => $api.useQuery('get', '/api/v1/catalogue/vocabulary')

export const useProjects = () => $api.useQuery('get', '/api/v1/projects')

export const useEnvironments = () => $api.useQuery('get', '/api/v1/environments', { params: { query: { limit: 200 } } })

export const useLineup = (versions: string[]) =>
  $api.useQuery(
    'get',
    '/api/v1/lineup',
    { params: { query: { versions: versions.join(',') } } },
    { enabled: versions.length > 0, placeholderData: (before) => before },
  )

export const useTrace = (from: string, direction: 'up' | 'down' | 'both') =>
  $api.useQuery(
    'get',
    '/api/v1/trace',
    { params: { query: { from, direction } } },
    { enabled: from !== '', placeholderData: (before) => before },
  )

export const useProfile = (ref: string, has: boolean) =>
  $api.useQuery('get', '/api/v1/versions/{ref}/profile', { params: { path: { ref } } }, { enabled: has })

export const useProfiles = (ref: string, other: string, has: boolean) =>
  $api.useQuery(
    'get',
    '/api/v1/versions/{ref}/profile/against/{other}',
    { params: { path: { ref, other } } },
    { enabled: has },
  )

export const useRuns = (model?: string) =>
  $api.useQuery('get', '/api/v1/runs', { params: { query: { model, limit: 100 } } }, { refetchInterval: 10_000 })

export const useRun = (run: string) =>
  $api.useQuery(
    'get',
    '/api/v1/runs/{run}',
    { params: { path: { run } } },
    { refetchInterval: (query) => (query.state.data?.state === 'running' ? 2000 : false) },
  )

export const useCurves = (run: string, live: boolean) =>
  $api.useQuery(
    'get',
    '/api/v1/runs/{run}/curves',
    { params: { path: { run } } },
    { refetchInterval: live ? 2000 : false },
  )

export const useDataSets = (name?: string) =>
  $api.useQuery('get', '/api/v1/data-sets', { params: { query: { name, limit: 100 } } })

type Edit = NonNullable<paths['/api/v1/versions/{ref}']['patch']['requestBody']>['content']['application/json']

export const useEditVersion = (ref: string) =>
  useChange(
    (body: Edit) => data(api.PATCH('/api/v1/versions/{ref}', { params: { path: { ref } }, body })),
    [...registry],
  )

export const useEditModel = (model: string) =>
  useChange(
    (body: Edit) => data(api.PATCH('/api/v1/models/{model}', { params: { path: { model } }, body })),
    [...registry],
  )

export const useRemoveModel = (model: string) =>
  useChange(
    (reason: string) => data(api.DELETE('/api/v1/models/{model}', { params: { path: { model }, query: { reason } } })),
    [...registry, 'projects'],
  )

export const useVet = (model: string) =>
  useChange(
    (body: { vetted: boolean; reason: string }) =>
      data(api.POST('/api/v1/models/{model}/vetting', { params: { path: { model } }, body })),
    [...registry],
  )

export const usePutLabel = (model: string) =>
  useChange(
    ({ label, ...body }: { label: string; number: number; reason: string }) =>
      data(api.PUT('/api/v1/models/{model}/labels/{label}', { params: { path: { model, label } }, body })),
    [...registry],
  )

export const useRemoveLabel = (model: string) =>
  useChange(
    (label: string) =>
      data(api.DELETE('/api/v1/models/{model}/labels/{label}', { params: { path: { model, label } } })),
    [...registry],
  )

export const useRetire = (ref: string) =>
  useChange(
    (reason: string) =>
      data(api.POST('/api/v1/versions/{ref}/retire', { params: { path: { ref } }, body: { reason } })),
    [...registry],
  )

export const useReinstate = (ref: string) =>
  useChange(
    (reason: string) =>
      data(api.POST('/api/v1/versions/{ref}/reinstate', { params: { path: { ref } }, body: { reason } })),
    [...registry],
  )

export const useDelete = (ref: string) =>
  useChange(
    (reason: string) => data(api.DELETE('/api/v1/versions/{ref}', { params: { path: { ref }, query: { reason } } })),
    [...registry],
  )
