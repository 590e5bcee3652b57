import { $api, api, data } from './client'
import { useChange } from './stale'

/** What every version of a model must answer; nothing where it is 404. */
export const useCases = (model: string) =>
  $api.useQuery('get', '/api/v1/models/{model}/cases', { params: { path: { model } } }, { retry: false })

export const useSetCases = (model: string) =>
  useChange(
    (body: { text: string; reason: string }) =>
      data(api.PUT('/api/v1/models/{model}/cases', { params: { path: { model } }, body })),
    ['models'],
  )
