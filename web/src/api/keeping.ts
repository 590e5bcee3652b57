import { $api, api, data } from './client'
import type { components, paths } from './schema'
import { useChange } from './stale'

export const useWebhooks = () => $api.useQuery('get', '/api/v1/webhooks')

export const useAddWebhook = () =>
  useChange((body: components['schemas']['NewWebhook']) => data(api.POST('/api/v1/webhooks', { body })), ['webhooks'])

export const useRemoveWebhook = () =>
  useChange(
    (webhook: number) => data(api.DELETE('/api/v1/webhooks/{webhook}', { params: { path: { webhook } } })),
    ['webhooks'],
  )

export const useDeliveries = (webhook: number) =>
  $api.useQuery(
    'get',
    '/api/v1/webhooks/{webhook}/deliveries',
    { params: { path: { webhook }, query: { limit: 30 } } },
    { refetchInterval: 5000 },
  )

export const useSendAgain = () =>
  useChange(
    (delivery: number) => data(api.POST('/api/v1/deliveries/{delivery}/again', { params: { path: { delivery } } })),
    ['webhooks'],
  )

export const useMail = () => $api.useQuery('get', '/api/v1/settings/mail')

export const useSetMail = () =>
  useChange(
    (body: {
      host: string
      port?: number
      tls?: 'starttls' | 'tls' | 'none'
      user?: string
      from?: string
      password?: string
    }) => data(api.PUT('/api/v1/settings/mail', { body })),
    ['settings', 'environments', 'environments'],
  )

export const useTestMail = () => useChange(() => data(api.POST('/api/v1/settings/mail/test')), [])

export const useRetention = () => $api.useQuery('get', '/api/v1/settings/retention')

export const useSetRetention = () =>
  useChange(
    (body: NonNullable<paths['/api/v1/settings/retention']['put']['requestBody']>['content']['application/json']) =>
      data(api.PUT('/api/v1/settings/retention', { body })),
    ['settings', 'environments', 'environments'],
  )

export const useHeaders = (environment: string) =>
  $api.useQuery('get', '/api/v1/environments/{environment}/headers', { params: { path: { environment } } })

export const useSetHeader = (environment: string) =>
  useChange(
    ({ header, value }: { header: string; value: string }) =>
      data(
        api.PUT('/api/v1/environments/{environment}/headers/{header}', {
          params: { path: { environment, header } },
          body: { value },
        }),
      ),
    ['settings', 'environments', 'environments'],
  )

export const useRemoveHeader = (environment: string) =>
  useChange(
    (header: string) =>
      data(
        api.DELETE('/api/v1/environments/{environment}/headers/{header}', {
          params: { path: { environment, header } },
        }),
      ),
    ['settings', 'environments', 'environments'],
  )

export const useRotateKey = () =>
  useChange(
    (reason: string) => data(api.POST('/api/v1/settings/key/rotation', { body: { reason } })),
    ['settings', 'environments', 'environments'],
  )

export const useAddProject = () =>
  useChange((body: { name: string; description: string }) => data(api.POST('/api/v1/projects', { body })), ['projects'])

export const useEditProject = (project: string) =>
  useChange(
    (description: string) =>
      data(api.PATCH('/api/v1/projects/{project}', { params: { path: { project } }, body: { description } })),
    ['projects'],
  )

export const useRemoveProject = (project: string) =>
  useChange(
    (reason: string) =>
      data(api.DELETE('/api/v1/projects/{project}', { params: { path: { project }, query: { reason } } })),
    ['projects'],
  )

export const useCallers = (endpoint: string) =>
  $api.useQuery('get', '/api/v1/endpoints/{endpoint}/callers', { params: { path: { endpoint } } })

/** Who called an endpoint, and how much, in a window that ends now. */
export const useCalls = (endpoint: string, window: string) =>
  $api.useQuery(
    'get',
    '/api/v1/endpoints/{endpoint}/calls',
    { params: { path: { endpoint }, query: { window } } },
    { refetchInterval: 15_000, placeholderData: (before) => before },
  )

export const useAddCaller = (endpoint: string) =>
  useChange(
    (name: string) =>
      data(api.POST('/api/v1/endpoints/{endpoint}/callers', { params: { path: { endpoint } }, body: { name } })),
    ['endpoints'],
  )

export const useRemoveCaller = (endpoint: string) =>
  useChange(
    (caller: string) =>
      data(api.DELETE('/api/v1/endpoints/{endpoint}/callers/{caller}', { params: { path: { endpoint, caller } } })),
    ['endpoints'],
  )

export const useSetKeyed = (endpoint: string) =>
  useChange(
    (body: { keyed: boolean; reason: string }) =>
      data(api.PUT('/api/v1/endpoints/{endpoint}/keyed', { params: { path: { endpoint } }, body })),
    ['endpoints'],
  )

/** The agents that report what answers elsewhere for an endpoint. */
export const useAgents = (endpoint: string) =>
  $api.useQuery(
    'get',
    '/api/v1/endpoints/{endpoint}/agents',
    { params: { path: { endpoint } } },
    { refetchInterval: 10_000 },
  )
