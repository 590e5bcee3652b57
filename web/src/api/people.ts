import { useInfiniteQuery, useMutation, useQuery } from '@tanstack/react-query'

import { api, data } from './client'
import { queryClient } from './queries'
import type { components, paths } from './schema'

type Permission =
  | 'read'
  | 'comment'
  | 'register'
  | 'ask'
  | 'sign'
  | 'override'
  | 'place'
  | 'route'
  | 'handle'
  | 'prune'
  | 'audit'
  | 'manage'
  | 'administer'

export const useMe = () =>
  useQuery({ queryKey: ['session'], queryFn: () => data(api.GET('/api/v1/session')), staleTime: 60_000, retry: false })

/** Whether one may do something in a project, or in any when none is named; administer is about the service. */
export function useMay(permission: Permission, project?: string): boolean {
  const may = useMe().data?.may ?? {}
  if (may['*']?.includes(permission)) return true
  return project === undefined
    ? Object.values(may).some((p) => p.includes(permission))
    : !!may[project]?.includes(permission)
}

export const useWaysIn = () => useQuery({ queryKey: ['ways'], queryFn: () => data(api.GET('/api/v1/session/ways')) })

const cameIn = { onSuccess: () => queryClient.resetQueries() }

export const useSignIn = () =>
  useMutation({
    mutationFn: (body: { name: string; password: string }) => data(api.POST('/api/v1/session', { body })),
    ...cameIn,
  })

export const useSignOut = () => useMutation({ mutationFn: () => data(api.DELETE('/api/v1/session')), ...cameIn })

export const useLink = (secret: string) =>
  useQuery({
    queryKey: ['link', secret],
    queryFn: () => data(api.POST('/api/v1/welcome/look', { body: { secret } })),
    retry: false,
    enabled: secret !== '',
    staleTime: Infinity,
  })

export const useComeIn = () =>
  useMutation({
    mutationFn: (body: { secret: string; name?: string; password: string }) =>
      data(api.POST('/api/v1/welcome', { body })),
    ...cameIn,
  })

export const usePeople = () =>
  useQuery({
    queryKey: ['people'],
    queryFn: () => data(api.GET('/api/v1/people', { params: { query: { limit: 200 } } })),
  })

export const useRoles = () => useQuery({ queryKey: ['people', 'roles'], queryFn: () => data(api.GET('/api/v1/roles')) })

export const usePermissions = () =>
  useQuery({ queryKey: ['permissions'], queryFn: () => data(api.GET('/api/v1/permissions')), staleTime: Infinity })

const people = { onSuccess: () => queryClient.invalidateQueries({ queryKey: ['people'] }) }

export const useAddPerson = () =>
  useMutation({
    mutationFn: (body: components['schemas']['NewPerson']) => data(api.POST('/api/v1/people', { body })),
    ...people,
  })

export const useInvite = () =>
  useMutation({
    mutationFn: (person: string) =>
      data(api.POST('/api/v1/people/{person}/invitation', { params: { path: { person } } })),
    ...people,
  })

export const useEditPerson = (person: string) =>
  useMutation({
    mutationFn: (body: { email?: string; disabled?: boolean; reason?: string }) =>
      data(api.PATCH('/api/v1/people/{person}', { params: { path: { person } }, body })),
    ...people,
  })

export const useGiveRole = (person: string) =>
  useMutation({
    mutationFn: (path: { project: string; role: string }) =>
      data(api.PUT('/api/v1/people/{person}/memberships/{project}/{role}', { params: { path: { person, ...path } } })),
    ...people,
  })

export const useTakeRole = (person: string) =>
  useMutation({
    mutationFn: (path: { project: string; role: string }) =>
      data(
        api.DELETE('/api/v1/people/{person}/memberships/{project}/{role}', { params: { path: { person, ...path } } }),
      ),
    ...people,
  })

export const usePutRole = () =>
  useMutation({
    mutationFn: ({ role, ...body }: { role: string; permissions: string[]; description: string }) =>
      data(api.PUT('/api/v1/roles/{role}', { params: { path: { role } }, body })),
    ...people,
  })

export const useTokens = (robot?: string) =>
  useQuery({
    queryKey: ['tokens', robot],
    queryFn: () => data(api.GET('/api/v1/tokens', { params: { query: { robot } } })),
  })

const tokens = { onSuccess: () => queryClient.invalidateQueries({ queryKey: ['tokens'] }) }

export const useMakeToken = () =>
  useMutation({
    mutationFn: (body: components['schemas']['NewToken']) => data(api.POST('/api/v1/tokens', { body })),
    ...tokens,
  })

export const useEndToken = () =>
  useMutation({
    mutationFn: (token: number) => data(api.DELETE('/api/v1/tokens/{token}', { params: { path: { token } } })),
    ...tokens,
  })

export const useSessions = () =>
  useQuery({ queryKey: ['sessions'], queryFn: () => data(api.GET('/api/v1/me/sessions')) })

export const useEndOtherSessions = () =>
  useMutation({
    mutationFn: () => data(api.DELETE('/api/v1/me/sessions')),
    onSuccess: () => queryClient.invalidateQueries({ queryKey: ['sessions'] }),
  })

export const useChangePassword = () =>
  useMutation({
    mutationFn: (body: { old: string; password: string }) => data(api.PUT('/api/v1/me/password', { body })),
  })

export const useInbox = (unread: boolean) =>
  useInfiniteQuery({
    queryKey: ['inbox', unread],
    queryFn: ({ pageParam }) =>
      data(
        api.GET('/api/v1/me/inbox', {
          params: { query: { unread: unread || undefined, limit: 30, cursor: pageParam || undefined } },
        }),
      ),
    initialPageParam: '',
    getNextPageParam: (last) => last.next_cursor || undefined,
  })

export const useMarkRead = () =>
  useMutation({
    mutationFn: (body: { notice: number; alone?: boolean }) => data(api.POST('/api/v1/me/inbox/read', { body })),
    onSuccess: () => {
      void queryClient.invalidateQueries({ queryKey: ['inbox'] })
      return queryClient.invalidateQueries({ queryKey: ['session'] })
    },
  })

export const usePreferences = () =>
  useQuery({ queryKey: ['preferences'], queryFn: () => data(api.GET('/api/v1/me/preferences')) })

export const useSetPreferences = () =>
  useMutation({
    mutationFn: (choices: Record<string, string[]>) => data(api.PUT('/api/v1/me/preferences', { body: { choices } })),
    onSuccess: (preferences) => queryClient.setQueryData(['preferences'], preferences),
  })

/** What happened, part by part, about a subject, in a project, or all of it. */
export const useActivity = (filter: { subject?: string; project?: string }, limit = 20) =>
  useInfiniteQuery({
    queryKey: ['activity', filter, limit],
    queryFn: ({ pageParam }) =>
      data(api.GET('/api/v1/activity', { params: { query: { ...filter, limit, cursor: pageParam || undefined } } })),
    initialPageParam: '',
    getNextPageParam: (last) => last.next_cursor || undefined,
  })

export const useComment = () =>
  useMutation({
    mutationFn: (body: { on?: number; subject?: string; text: string }) => data(api.POST('/api/v1/comments', { body })),
    onSuccess: () => queryClient.invalidateQueries({ queryKey: ['activity'] }),
  })

export type AuditSearch = Omit<NonNullable<paths['/api/v1/audit']['get']['parameters']['query']>, 'limit' | 'cursor'>

export const useAudit = (search: AuditSearch) =>
  useInfiniteQuery({
    queryKey: ['audit', search],
    queryFn: ({ pageParam }) =>
      data(api.GET('/api/v1/audit', { params: { query: { ...search, limit: 40, cursor: pageParam || undefined } } })),
    initialPageParam: '',
    getNextPageParam: (last) => last.next_cursor || undefined,
    placeholderData: (before) => before,
  })

export const useVerify = () => useMutation({ mutationFn: () => data(api.POST('/api/v1/audit/verify', { body: {} })) })

export const useSearches = () =>
  useQuery({ queryKey: ['searches'], queryFn: () => data(api.GET('/api/v1/audit/searches')) })

const searches = { onSuccess: () => queryClient.invalidateQueries({ queryKey: ['searches'] }) }

export const useSaveSearch = () =>
  useMutation({
    mutationFn: (body: { name: string; query: Record<string, string>; shared: boolean }) =>
      data(api.POST('/api/v1/audit/searches', { body })),
    ...searches,
  })

export const useRemoveSearch = () =>
  useMutation({
    mutationFn: (search: number) =>
      data(api.DELETE('/api/v1/audit/searches/{search}', { params: { path: { search } } })),
    ...searches,
  })
