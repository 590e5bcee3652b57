import { $api, api, data } from './client'
import type { components } from './schema'
import { useChange } from './stale'
import { answer } from './uploads'

export type Standing = components['schemas']['StandingShown']

/** What every new version of a model is evaluated on, with how far each is; nothing where it is 404. */
export const useStanding = (model: string) =>
  $api.useQuery(
    'get',
    '/api/v1/models/{model}/standing',
    { params: { path: { model } } },
    {
      retry: false,
      refetchInterval: (query) =>
        query.state.data?.runs.some((r) => r.state === 'going' || r.state === 'waiting') ? 3000 : false,
    },
  )

/** Sets it, on the rows of a file. */
export const useSetStanding = (model: string) =>
  useChange(
    async ({ file, ...rest }: { file: File; target: string; at_most: string; against: string; reason: string }) => {
      const query = new URLSearchParams({ ...rest, name: file.name })
      const url = `/api/v1/models/${encodeURIComponent(model)}/standing?${query.toString()}`
      return answer<unknown>(await fetch(url, { method: 'PUT', body: file }))
    },
    ['models'],
  )

export const useRunStanding = () =>
  useChange(
    (ref: string) => data(api.POST('/api/v1/versions/{ref}/standing', { params: { path: { ref } } })),
    ['models', 'jobs'],
  )
