import { $api } from './client'
import type { paths } from './schema'

/** How right the versions of an endpoint were in a window that ends at a moment, or now. */
export const useAccuracy = (endpoint: string, window: string, until?: string) =>
  $api.useQuery(
    'get',
    '/api/v1/endpoints/{endpoint}/accuracy',
    { params: { path: { endpoint }, query: { window, ...(until && { until }) } } },
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

type DriftQuery = NonNullable<paths['/api/v1/endpoints/{endpoint}/drift']['get']['parameters']['query']>

/** How far the columns of an endpoint's requests and answers are from what they are held against. */
export const useDrift = (endpoint: string, query: DriftQuery) =>
  $api.useQuery(
    'get',
    '/api/v1/endpoints/{endpoint}/drift',
    { params: { path: { endpoint }, query } },
    { refetchInterval: 15_000, placeholderData: (before) => before },
  )
