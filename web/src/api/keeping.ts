import { useMutation, useQuery } from '@tanstack/react-query'

import { api, data } from './client'
import { queryClient } from './queries'
import type { components } from './schema'

const webhooks = { onSuccess: () => queryClient.invalidateQueries({ queryKey: ['webhooks'] }) }

export const useWebhooks = () => useQuery({ queryKey: ['webhooks'], queryFn: () => data(api.GET('/api/v1/webhooks')) })

export const useAddWebhook = () =>
  useMutation({
    mutationFn: (body: components['schemas']['NewWebhook']) => data(api.POST('/api/v1/webhooks', { body })),
    ...webhooks,
  })

export const useRemoveWebhook = () =>
  useMutation({
    mutationFn: (webhook: number) => data(api.DELETE('/api/v1/webhooks/{webhook}', { params: { path: { webhook } } })),
    ...webhooks,
  })

export const useDeliveries = (webhook: number) =>
  useQuery({
    queryKey: ['webhooks', webhook, 'deliveries'],
    queryFn: () =>
      data(api.GET('/api/v1/webhooks/{webhook}/deliveries', { params: { path: { webhook }, query: { limit: 30 } } })),
    refetchInterval: 5000,
  })

export const useSendAgain = () =>
  useMutation({
    mutationFn: (delivery: number) =>
      data(api.POST('/api/v1/deliveries/{delivery}/again', { params: { path: { delivery } } })),
    ...webhooks,
  })

const settings = { onSuccess: () => queryClient.invalidateQueries({ queryKey: ['settings'] }) }

export const useMail = () =>
  useQuery({ queryKey: ['settings', 'mail'], queryFn: () => data(api.GET('/api/v1/settings/mail')) })

export const useSetMail = () =>
  useMutation({
    mutationFn: (body: {
      host: string
      port?: number
      tls?: 'starttls' | 'tls' | 'none'
      user?: string
      from?: string
      password?: string
    }) => data(api.PUT('/api/v1/settings/mail', { body })),
    ...settings,
  })

export const useTestMail = () => useMutation({ mutationFn: () => data(api.POST('/api/v1/settings/mail/test')) })

export const useRetention = () =>
  useQuery({ queryKey: ['settings', 'retention'], queryFn: () => data(api.GET('/api/v1/settings/retention')) })

export const useSetRetention = () =>
  useMutation({
    mutationFn: (body: Record<string, string>) => data(api.PUT('/api/v1/settings/retention', { body })),
    ...settings,
  })

export const useHeaders = (environment: string) =>
  useQuery({
    queryKey: ['settings', 'headers', environment],
    queryFn: () => data(api.GET('/api/v1/environments/{environment}/headers', { params: { path: { environment } } })),
  })

export const useSetHeader = (environment: string) =>
  useMutation({
    mutationFn: ({ header, value }: { header: string; value: string }) =>
      data(
        api.PUT('/api/v1/environments/{environment}/headers/{header}', {
          params: { path: { environment, header } },
          body: { value },
        }),
      ),
    ...settings,
  })

export const useRemoveHeader = (environment: string) =>
  useMutation({
    mutationFn: (header: string) =>
      data(
        api.DELETE('/api/v1/environments/{environment}/headers/{header}', {
          params: { path: { environment, header } },
        }),
      ),
    ...settings,
  })

export const useRotateKey = () =>
  useMutation({
    mutationFn: (reason: string) => data(api.POST('/api/v1/settings/key/rotation', { body: { reason } })),
    ...settings,
  })

export const useAddProject = () =>
  useMutation({
    mutationFn: (body: { name: string; description: string }) => data(api.POST('/api/v1/projects', { body })),
    onSuccess: () => queryClient.invalidateQueries({ queryKey: ['projects'] }),
  })

export const useCallers = (endpoint: string) =>
  useQuery({
    queryKey: ['callers', endpoint],
    queryFn: () => data(api.GET('/api/v1/endpoints/{endpoint}/callers', { params: { path: { endpoint } } })),
  })

const callers = {
  onSuccess: () => {
    void queryClient.invalidateQueries({ queryKey: ['callers'] })
    return queryClient.invalidateQueries({ queryKey: ['endpoints'] })
  },
}

export const useAddCaller = (endpoint: string) =>
  useMutation({
    mutationFn: (name: string) =>
      data(api.POST('/api/v1/endpoints/{endpoint}/callers', { params: { path: { endpoint } }, body: { name } })),
    ...callers,
  })

export const useRemoveCaller = (endpoint: string) =>
  useMutation({
    mutationFn: (caller: string) =>
      data(api.DELETE('/api/v1/endpoints/{endpoint}/callers/{caller}', { params: { path: { endpoint, caller } } })),
    ...callers,
  })

export const useSetKeyed = (endpoint: string) =>
  useMutation({
    mutationFn: (body: { keyed: boolean; reason: string }) =>
      data(api.PUT('/api/v1/endpoints/{endpoint}/keyed', { params: { path: { endpoint } }, body })),
    ...callers,
  })
