import { QueryClient, useInfiniteQuery, useMutation, useQuery } from '@tanstack/react-query'

import { api, data, ProblemError, type EndpointNow, type Lane } from './client'
import type { paths } from './schema'

export const queryClient = new QueryClient({
  defaultOptions: {
    queries: {
      // Changes arrive as events; what was read stays right until one says otherwise.
      staleTime: 30_000,
      retry: (failures, error) => !(error instanceof ProblemError && error.problem.status !== 0) && failures < 3,
    },
  },
})

export type ModelFilter = NonNullable<paths['/api/v1/models']['get']['parameters']['query']>

export const useModels = (filter: ModelFilter = {}) =>
  useQuery({
    queryKey: ['models', 'list', filter],
    queryFn: () => data(api.GET('/api/v1/models', { params: { query: { limit: 200, ...filter } } })),
    placeholderData: (before) => before,
  })

export const useModel = (model: string) =>
  useQuery({
    queryKey: ['models', model],
    queryFn: () => data(api.GET('/api/v1/models/{model}', { params: { path: { model } } })),
  })

export const useVersions = (model: string) =>
  useQuery({
    queryKey: ['models', model, 'versions'],
    queryFn: () =>
      data(api.GET('/api/v1/models/{model}/versions', { params: { path: { model }, query: { limit: 200 } } })),
    enabled: model !== '',
  })

export const useVersion = (ref: string) =>
  useQuery({
    queryKey: ['models', 'version', ref],
    queryFn: () => data(api.GET('/api/v1/versions/{ref}', { params: { path: { ref } } })),
  })

export const useDiff = (ref: string, other: string | undefined) =>
  useQuery({
    queryKey: ['models', 'diff', ref, other],
    queryFn: () =>
      data(api.GET('/api/v1/versions/{ref}/diff/{other}', { params: { path: { ref, other: other ?? '' } } })),
    enabled: other !== undefined,
  })

export const usePlacements = () =>
  useQuery({
    queryKey: ['placements'],
    queryFn: () => data(api.GET('/api/v1/placements', { params: { query: { limit: 200 } } })),
  })

export const useEndpoints = () =>
  useQuery({
    queryKey: ['endpoints'],
    queryFn: () => data(api.GET('/api/v1/endpoints', { params: { query: { limit: 200 } } })),
  })

export const useEndpoint = (endpoint: string) =>
  useQuery({
    queryKey: ['endpoints', endpoint],
    queryFn: () => data(api.GET('/api/v1/endpoints/{endpoint}', { params: { path: { endpoint } } })),
  })

export const useSplits = (endpoint: string) =>
  useQuery({
    queryKey: ['endpoints', endpoint, 'splits'],
    queryFn: () =>
      data(api.GET('/api/v1/endpoints/{endpoint}/splits', { params: { path: { endpoint }, query: { limit: 50 } } })),
  })

export const useSeries = (endpoint: string, window: string) =>
  useQuery({
    queryKey: ['series', endpoint, window],
    queryFn: () =>
      data(api.GET('/api/v1/endpoints/{endpoint}/series', { params: { path: { endpoint }, query: { window } } })),
    refetchInterval: 2000,
    placeholderData: (before) => before,
  })

export const useComparison = (endpoint: string, incumbent: string, candidate: string, window: string) =>
  useQuery({
    queryKey: ['comparison', endpoint, incumbent, candidate, window],
    queryFn: () =>
      data(
        api.GET('/api/v1/endpoints/{endpoint}/compare', {
          params: { path: { endpoint }, query: { incumbent, candidate, window } },
        }),
      ),
    refetchInterval: 5000,
    placeholderData: (before) => before,
    enabled: incumbent !== '' && candidate !== '' && incumbent !== candidate,
  })

export const useAlerts = (state?: 'open' | 'acknowledged' | 'resolved') =>
  useQuery({
    queryKey: ['alerts', state],
    queryFn: () => data(api.GET('/api/v1/alerts', { params: { query: { state } } })),
  })

/** What all endpoints do now; the live connection keeps it up to date. */
export const useNow = () => useQuery({ queryKey: ['now'], queryFn: () => data(api.GET('/api/v1/now')) })

export function useEndpointNow(endpoint: string): EndpointNow | undefined {
  return useNow().data?.find((n) => n.endpoint === endpoint)
}

/** The number of the split that was looked at goes with a change, so two people cannot overwrite each other. */
const based = (split: number) => ({ 'If-Match': `"${split}"` })

export const useSplit = (endpoint: string, split: number) =>
  useMutation({
    mutationFn: (body: { lanes: Lane[]; reason: string }) =>
      data(
        api.POST('/api/v1/endpoints/{endpoint}/splits', { params: { path: { endpoint }, header: based(split) }, body }),
      ),
    onSuccess: () => queryClient.invalidateQueries({ queryKey: ['endpoints'] }),
  })

export const useBack = (endpoint: string, split: number) =>
  useMutation({
    mutationFn: (body: { to?: number; reason: string }) =>
      data(
        api.POST('/api/v1/endpoints/{endpoint}/back', { params: { path: { endpoint }, header: based(split) }, body }),
      ),
    onSuccess: () => queryClient.invalidateQueries({ queryKey: ['endpoints'] }),
  })

export const useHandleAlert = (alert: string) =>
  useMutation({
    mutationFn: (body: { state: 'acknowledged' | 'resolved'; note: string }) =>
      data(api.POST('/api/v1/alerts/{alert}', { params: { path: { alert } }, body })),
    onSuccess: () => queryClient.invalidateQueries({ queryKey: ['alerts'] }),
  })

export type Search = NonNullable<paths['/api/v1/catalogue']['get']['parameters']['query']>

/** The versions of all models that a search leaves, part by part. */
export const useCatalogue = (search: Search) =>
  useInfiniteQuery({
    queryKey: ['models', 'catalogue', search],
    queryFn: ({ pageParam }) =>
      data(
        api.GET('/api/v1/catalogue', { params: { query: { limit: 40, ...search, cursor: pageParam || undefined } } }),
      ),
    initialPageParam: '',
    getNextPageParam: (last) => last.next_cursor || undefined,
    placeholderData: (before) => before,
  })

export const useVocabulary = () =>
  useQuery({ queryKey: ['models', 'vocabulary'], queryFn: () => data(api.GET('/api/v1/catalogue/vocabulary')) })

export const useProjects = () => useQuery({ queryKey: ['projects'], queryFn: () => data(api.GET('/api/v1/projects')) })

export const useEnvironments = () =>
  useQuery({
    queryKey: ['environments'],
    queryFn: () => data(api.GET('/api/v1/environments', { params: { query: { limit: 200 } } })),
  })

export const useLineup = (versions: string[]) =>
  useQuery({
    queryKey: ['models', 'lineup', versions],
    queryFn: () => data(api.GET('/api/v1/lineup', { params: { query: { versions: versions.join(',') } } })),
    enabled: versions.length > 0,
    placeholderData: (before) => before,
  })

export const useTrace = (from: string, direction: 'up' | 'down' | 'both') =>
  useQuery({
    queryKey: ['models', 'trace', from, direction],
    queryFn: () => data(api.GET('/api/v1/trace', { params: { query: { from, direction } } })),
    enabled: from !== '',
    placeholderData: (before) => before,
  })

export const useProfile = (ref: string, has: boolean) =>
  useQuery({
    queryKey: ['models', 'profile', ref],
    queryFn: () => data(api.GET('/api/v1/versions/{ref}/profile', { params: { path: { ref } } })),
    enabled: has,
  })

export const useProfiles = (ref: string, other: string, has: boolean) =>
  useQuery({
    queryKey: ['models', 'profiles', ref, other],
    queryFn: () =>
      data(api.GET('/api/v1/versions/{ref}/profile/against/{other}', { params: { path: { ref, other } } })),
    enabled: has,
  })

export const useRuns = (model?: string) =>
  useQuery({
    queryKey: ['runs', 'list', model],
    queryFn: () => data(api.GET('/api/v1/runs', { params: { query: { model, limit: 100 } } })),
    refetchInterval: 10_000,
  })

export const useRun = (run: string) =>
  useQuery({
    queryKey: ['runs', run],
    queryFn: () => data(api.GET('/api/v1/runs/{run}', { params: { path: { run } } })),
    refetchInterval: (query) => (query.state.data?.state === 'running' ? 2000 : false),
  })

export const useCurves = (run: string, live: boolean) =>
  useQuery({
    queryKey: ['runs', run, 'curves'],
    queryFn: () => data(api.GET('/api/v1/runs/{run}/curves', { params: { path: { run } } })),
    refetchInterval: live ? 2000 : false,
  })

export const useDataSets = (name?: string) =>
  useQuery({
    queryKey: ['data', name],
    queryFn: () => data(api.GET('/api/v1/data-sets', { params: { query: { name, limit: 100 } } })),
  })

const models = () => queryClient.invalidateQueries({ queryKey: ['models'] })

type Edit = NonNullable<paths['/api/v1/versions/{ref}']['patch']['requestBody']>['content']['application/json']

export const useEditVersion = (ref: string) =>
  useMutation({
    mutationFn: (body: Edit) => data(api.PATCH('/api/v1/versions/{ref}', { params: { path: { ref } }, body })),
    onSuccess: models,
  })

export const useEditModel = (model: string) =>
  useMutation({
    mutationFn: (body: Edit) => data(api.PATCH('/api/v1/models/{model}', { params: { path: { model } }, body })),
    onSuccess: models,
  })

export const useVet = (model: string) =>
  useMutation({
    mutationFn: (body: { vetted: boolean; reason: string }) =>
      data(api.POST('/api/v1/models/{model}/vetting', { params: { path: { model } }, body })),
    onSuccess: models,
  })

export const usePutLabel = (model: string) =>
  useMutation({
    mutationFn: ({ label, ...body }: { label: string; number: number; reason: string }) =>
      data(api.PUT('/api/v1/models/{model}/labels/{label}', { params: { path: { model, label } }, body })),
    onSuccess: models,
  })

export const useRemoveLabel = (model: string) =>
  useMutation({
    mutationFn: (label: string) =>
      data(api.DELETE('/api/v1/models/{model}/labels/{label}', { params: { path: { model, label } } })),
    onSuccess: models,
  })

export const useRetire = (ref: string) =>
  useMutation({
    mutationFn: (reason: string) =>
      data(api.POST('/api/v1/versions/{ref}/retire', { params: { path: { ref } }, body: { reason } })),
    onSuccess: models,
  })

export const useReinstate = (ref: string) =>
  useMutation({
    mutationFn: (reason: string) =>
      data(api.POST('/api/v1/versions/{ref}/reinstate', { params: { path: { ref } }, body: { reason } })),
    onSuccess: models,
  })

export const useDelete = (ref: string) =>
  useMutation({
    mutationFn: (reason: string) =>
      data(api.DELETE('/api/v1/versions/{ref}', { params: { path: { ref }, query: { reason } } })),
    onSuccess: models,
  })
