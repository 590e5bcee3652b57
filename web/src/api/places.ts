import { api, data } from './client'
import type { components, paths } from './schema'
import { useChange } from './stale'

type Schemas = components['schemas']
/** What is sent to change the thing at a path. */
type Edit<Path extends keyof paths> = paths[Path] extends {
  patch: { requestBody?: { content: { 'application/json': infer Body } } }
}
  ? Body
  : never

const felt = ['environments', 'placements', 'running', 'endpoints'] as const

export const useAddEnvironment = () =>
  useChange((body: Schemas['NewEnvironment']) => data(api.POST('/api/v1/environments', { body })), [...felt])

export const useEditEnvironment = (environment: string) =>
  useChange(
    (body: Edit<'/api/v1/environments/{environment}'>) =>
      data(api.PATCH('/api/v1/environments/{environment}', { params: { path: { environment } }, body })),
    [...felt],
  )

export const useRemoveEnvironment = (environment: string) =>
  useChange(
    (reason: string) =>
      data(api.DELETE('/api/v1/environments/{environment}', { params: { path: { environment }, query: { reason } } })),
    [...felt],
  )

export const usePlace = (environment: string) =>
  useChange(
    (body: Omit<Schemas['NewPlacement'], 'environment'>) =>
      data(api.POST('/api/v1/placements', { body: { ...body, environment } })),
    [...felt, 'versions', 'promotions'],
  )

export const useChangeAddresses = (environment: string, ref: string) =>
  useChange(
    (body: Edit<'/api/v1/placements/{environment}/{ref}'>) =>
      data(api.PATCH('/api/v1/placements/{environment}/{ref}', { params: { path: { environment, ref } }, body })),
    [...felt],
  )

export const useUnplace = (environment: string) =>
  useChange(
    (ref: string) =>
      data(api.DELETE('/api/v1/placements/{environment}/{ref}', { params: { path: { environment, ref } } })),
    [...felt, 'versions', 'promotions'],
  )

export const useAddEndpoint = () =>
  useChange((body: Schemas['NewEndpoint']) => data(api.POST('/api/v1/endpoints', { body })), [...felt])

export const useEditEndpoint = (endpoint: string) =>
  useChange(
    (body: Edit<'/api/v1/endpoints/{endpoint}'>) =>
      data(api.PATCH('/api/v1/endpoints/{endpoint}', { params: { path: { endpoint } }, body })),
    ['endpoints'],
  )

export const useRemoveEndpoint = (endpoint: string) =>
  useChange(
    (reason: string) =>
      data(api.DELETE('/api/v1/endpoints/{endpoint}', { params: { path: { endpoint }, query: { reason } } })),
    ['endpoints'],
  )
