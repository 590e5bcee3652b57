import { QueryClient, useMutation, useQuery } from '@tanstack/react-query'

import { api, data, ProblemError, type EndpointNow, type Lane } from './client'

export const queryClient = new QueryClient({
  defaultOptions: {
    queries: {
      // Changes arrive as events; what was read stays right until one says otherwise.
      staleTime: 30_000,
      retry: (failures, error) => !(error instanceof ProblemError && error.problem.status !== 0) && failures < 3,
    },
  },
})

export const useMe = () =>
  useQuery({ queryKey: ['session'], queryFn: () => data(api.GET('/api/v1/session')), staleTime: Infinity, retry: false })

export const useLadder = () =>
  useQuery({ queryKey: ['ladder'], queryFn: () => data(api.GET('/api/v1/ladder')), staleTime: Infinity })

export const useModels = () =>
  useQuery({ queryKey: ['models'], queryFn: () => data(api.GET('/api/v1/models', { params: { query: { limit: 200 } } })) })

export const useModel = (model: string) =>
  useQuery({ queryKey: ['models', model], queryFn: () => data(api.GET('/api/v1/models/{model}', { params: { path: { model } } })) })

export const useVersions = (model: string) =>
  useQuery({
    queryKey: ['models', model, 'versions'],
    queryFn: () => data(api.GET('/api/v1/models/{model}/versions', { params: { path: { model }, query: { limit: 200 } } })),
    enabled: model !== '',
  })

export const useVersion = (ref: string) =>
  useQuery({ queryKey: ['models', 'version', ref], queryFn: () => data(api.GET('/api/v1/versions/{ref}', { params: { path: { ref } } })) })

export const useDiff = (ref: string, other: string | undefined) =>
  useQuery({
    queryKey: ['models', 'diff', ref, other],
    queryFn: () => data(api.GET('/api/v1/versions/{ref}/diff/{other}', { params: { path: { ref, other: other ?? '' } } })),
    enabled: other !== undefined,
  })

export const usePromotions = (filter: { state?: 'open'; model?: string }) =>
  useQuery({ queryKey: ['promotions', filter], queryFn: () => data(api.GET('/api/v1/promotions', { params: { query: filter } })) })

export const usePlacements = () =>
  useQuery({ queryKey: ['placements'], queryFn: () => data(api.GET('/api/v1/placements', { params: { query: { limit: 200 } } })) })

export const useEndpoints = () =>
  useQuery({ queryKey: ['endpoints'], queryFn: () => data(api.GET('/api/v1/endpoints', { params: { query: { limit: 200 } } })) })

export const useEndpoint = (endpoint: string) =>
  useQuery({
    queryKey: ['endpoints', endpoint],
    queryFn: () => data(api.GET('/api/v1/endpoints/{endpoint}', { params: { path: { endpoint } } })),
  })

export const useSplits = (endpoint: string) =>
  useQuery({
    queryKey: ['endpoints', endpoint, 'splits'],
    queryFn: () => data(api.GET('/api/v1/endpoints/{endpoint}/splits', { params: { path: { endpoint }, query: { limit: 50 } } })),
  })

export const useSeries = (endpoint: string, window: string) =>
  useQuery({
    queryKey: ['series', endpoint, window],
    queryFn: () => data(api.GET('/api/v1/endpoints/{endpoint}/series', { params: { path: { endpoint }, query: { window } } })),
    refetchInterval: 2000,
    placeholderData: (before) => before,
  })

export const useComparison = (endpoint: string, incumbent: string, candidate: string, window: string) =>
  useQuery({
    queryKey: ['comparison', endpoint, incumbent, candidate, window],
    queryFn: () =>
      data(
        api.GET('/api/v1/endpoints/{endpoint}/compare', { params: { path: { endpoint }, query: { incumbent, candidate, window } } }),
      ),
    refetchInterval: 5000,
    placeholderData: (before) => before,
    enabled: incumbent !== '' && candidate !== '' && incumbent !== candidate,
  })

export const useAlerts = (state?: 'open' | 'acknowledged' | 'resolved') =>
  useQuery({ queryKey: ['alerts', state], queryFn: () => data(api.GET('/api/v1/alerts', { params: { query: { state } } })) })

export const useAudit = (subject?: string, limit = 50) =>
  useQuery({ queryKey: ['audit', subject, limit], queryFn: () => data(api.GET('/api/v1/audit', { params: { query: { subject, limit } } })) })

/** What all endpoints do now; the live connection keeps it up to date. */
export const useNow = () => useQuery({ queryKey: ['now'], queryFn: () => data(api.GET('/api/v1/now')) })

export function useEndpointNow(endpoint: string): EndpointNow | undefined {
  return useNow().data?.find((n) => n.endpoint === endpoint)
}

export const useSignIn = () =>
  useMutation({
    mutationFn: (token: string) => data(api.POST('/api/v1/session', { body: { token } })),
    onSuccess: (person) => queryClient.setQueryData(['session'], person),
  })

export const useSignOut = () =>
  useMutation({ mutationFn: () => data(api.DELETE('/api/v1/session')), onSuccess: () => queryClient.resetQueries() })

export const usePromote = () =>
  useMutation({
    mutationFn: (body: { version: string; to: string; note: string }) => data(api.POST('/api/v1/promotions', { body })),
    onSuccess: () => queryClient.invalidateQueries({ queryKey: ['promotions'] }),
  })

export const useSign = (promotion: string) =>
  useMutation({
    mutationFn: (body: { answer: 'yes' | 'no'; note: string }) =>
      data(api.POST('/api/v1/promotions/{promotion}/sign-offs', { params: { path: { promotion } }, body })),
    onSuccess: () => queryClient.invalidateQueries({ queryKey: ['promotions'] }),
  })

/** The number of the split that was looked at goes with a change, so two people cannot overwrite each other. */
const based = (split: number) => ({ 'If-Match': `"${split}"` })

export const useSplit = (endpoint: string, split: number) =>
  useMutation({
    mutationFn: (body: { lanes: Lane[]; reason: string }) =>
      data(api.POST('/api/v1/endpoints/{endpoint}/splits', { params: { path: { endpoint }, header: based(split) }, body })),
    onSuccess: () => queryClient.invalidateQueries({ queryKey: ['endpoints'] }),
  })

export const useBack = (endpoint: string, split: number) =>
  useMutation({
    mutationFn: (body: { to?: number; reason: string }) =>
      data(api.POST('/api/v1/endpoints/{endpoint}/back', { params: { path: { endpoint }, header: based(split) }, body })),
    onSuccess: () => queryClient.invalidateQueries({ queryKey: ['endpoints'] }),
  })

export const useHandleAlert = (alert: string) =>
  useMutation({
    mutationFn: (body: { state: 'acknowledged' | 'resolved'; note: string }) =>
      data(api.POST('/api/v1/alerts/{alert}', { params: { path: { alert } }, body })),
    onSuccess: () => queryClient.invalidateQueries({ queryKey: ['alerts'] }),
  })
