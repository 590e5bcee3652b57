import { $api } from './client'

/** How right the versions of an endpoint were in a window that ends now. */
export const useAccuracy = (endpoint: string, window: string) =>
  $api.useQuery(
    'get',
    '/api/v1/endpoints/{endpoint}/accuracy',
    { params: { path: { endpoint }, query: { window } } },
    { refetchInterval: 15_000, placeholderData: (before) => before },
  )

/** Single predictions with their truth, and the segments in which they are worse. */
export const useOutcomes = (
  endpoint: string,
  query: { window: string; version?: string; output?: string; worst?: boolean; limit?: number },
) =>
  $api.useQuery(
    'get',
    '/api/v1/endpoints/{endpoint}/outcomes',
    { params: { path: { endpoint }, query } },
    { placeholderData: (before) => before },
  )
