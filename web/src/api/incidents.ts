import { $api, api, data } from './client'
import type { components } from './schema'
import { useChange } from './stale'

type Schemas = components['schemas']
export type Incident = Schemas['Incident']
export type ShownIncident = Schemas['ShownIncident']
export type Report = Schemas['Report']

export const useIncidents = (filter: { endpoint?: string; version?: string; state?: 'open' | 'closed' } = {}) =>
  $api.useQuery('get', '/api/v1/incidents', { params: { query: { limit: 50, ...filter } } })

/** An incident; again every second until its report is written. */
export const useIncident = (incident: string) =>
  $api.useQuery(
    'get',
    '/api/v1/incidents/{incident}',
    { params: { path: { incident } } },
    { refetchInterval: (query) => (query.state.data?.report ? false : 1000) },
  )

export const useHandleIncident = (incident: string) =>
  useChange(
    (body: {
      note?: string
      cause?: string
      follow_up?: { text: string; who?: string; due?: string }
      done?: number
      state?: 'open' | 'closed'
    }) => data(api.POST('/api/v1/incidents/{incident}', { params: { path: { incident } }, body })),
    ['incidents'],
  )
