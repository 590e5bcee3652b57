import { useMutation, useQueryClient } from '@tanstack/react-query'

import { $api, api, data } from './client'
import type { components, paths } from './schema'
import { useChange } from './stale'

export type Permission = components['schemas']['Role']['permissions'][number]

export const useMe = () => $api.useQuery('get', '/api/v1/session', {}, { staleTime: 60_000, retry: false })

/** Whether one may do something in a project, or in any when none is named; administer is about the service. */
export function useMay(permission: Permission, project?: string): boolean {
  const may = useMe().data?.may ?? {}
  if (may['*']?.includes(permission)) return true
  return project === undefined
    ? Object.values(may).some((p) => p.includes(permission))
    : !!may[project]?.includes(permission)
}

export const useWaysIn = () => $api.useQuery('get', '/api/v1/session/ways')

/** Someone came in or went: nothing that was read for somebody else stays. */
function useComing<In = void, Out = unknown>(send: (input: In) => Promise<Out>) {
  const client = useQueryClient()
  return useMutation({ mutationFn: send, onSuccess: () => client.resetQueries() })
}

export const useSignIn = () =>
  useComing((body: { name: string; password: string }) => data(api.POST('/api/v1/session', { body })))

export const useSignOut = () => useComing(() => data(api.DELETE('/api/v1/session')))

export const useLink = (secret: string) =>
  $api.useQuery(
    'post',
    '/api/v1/welcome/look',
    { body: { secret } },
    { retry: false, enabled: secret !== '', staleTime: Infinity },
  )

export const useComeIn = () =>
  useComing((body: { secret: string; name?: string; password: string }) => data(api.POST('/api/v1/welcome', { body })))

export const useOwnProject = () =>
  useChange((project: string) => data(api.PUT('/api/v1/me/project', { body: { project } })), ['session'])

export const usePeople = () => $api.useQuery('get', '/api/v1/people', { params: { query: { limit: 200 } } })

export const useRoles = () => $api.useQuery('get', '/api/v1/roles')

export const usePermissions = () => $api.useQuery('get', '/api/v1/permissions', {}, { staleTime: Infinity })

export const useAddPerson = () =>
  useChange(
    (body: components['schemas']['NewPerson']) => data(api.POST('/api/v1/people', { body })),
    ['people', 'roles', 'roles'],
  )

export const useInvite = () =>
  useChange(
    (person: string) => data(api.POST('/api/v1/people/{person}/invitation', { params: { path: { person } } })),
    ['people', 'roles', 'roles'],
  )

export const useEditPerson = (person: string) =>
  useChange(
    (body: { email?: string; disabled?: boolean; reason?: string }) =>
      data(api.PATCH('/api/v1/people/{person}', { params: { path: { person } }, body })),
    ['people', 'roles', 'roles'],
  )

export const useGiveRole = (person: string) =>
  useChange(
    (path: { project: string; role: string }) =>
      data(api.PUT('/api/v1/people/{person}/memberships/{project}/{role}', { params: { path: { person, ...path } } })),
    ['people', 'roles', 'roles'],
  )

export const useTakeRole = (person: string) =>
  useChange(
    (path: { project: string; role: string }) =>
      data(
        api.DELETE('/api/v1/people/{person}/memberships/{project}/{role}', { params: { path: { person, ...path } } }),
      ),
    ['people', 'roles', 'roles'],
  )

export const usePutRole = () =>
  useChange(
    ({ role, ...body }: { role: string; permissions: string[]; description: string }) =>
      data(api.PUT('/api/v1/roles/{role}', { params: { path: { role } }, body })),
    ['people', 'roles', 'roles'],
  )

export const useTokens = (robot?: string) => $api.useQuery('get', '/api/v1/tokens', { params: { query: { robot } } })

export const useMakeToken = () =>
  useChange((body: components['schemas']['NewToken']) => data(api.POST('/api/v1/tokens', { body })), ['tokens'])

export const useEndToken = () =>
  useChange((token: number) => data(api.DELETE('/api/v1/tokens/{token}', { params: { path: { token } } })), ['tokens'])

export const useSessions = () => $api.useQuery('get', '/api/v1/me/sessions')

export const useEndOtherSessions = () => useChange(() => data(api.DELETE('/api/v1/me/sessions')), ['me'])

export const useChangePassword = () =>
  useChange(
    (body: { old: string; password: string; end_tokens: boolean }) => data(api.PUT('/api/v1/me/password', { body })),
    [],
  )

export const useInbox = (unread: boolean) =>
  $api.useInfiniteQuery(
    'get',
    '/api/v1/me/inbox',
    {
      params: { query: { unread: unread || undefined, limit: 30 } },
    },
    { pageParamName: 'cursor', initialPageParam: '', getNextPageParam: (last) => last.next_cursor || undefined },
  )

export const useMarkRead = () =>
  useChange(
    (body: { notice: number; alone?: boolean }) => data(api.POST('/api/v1/me/inbox/read', { body })),
    ['me', 'session'],
  )

export const usePreferences = () => $api.useQuery('get', '/api/v1/me/preferences')

export const useSetPreferences = () =>
  useChange(
    (choices: Record<string, string[]>) => data(api.PUT('/api/v1/me/preferences', { body: { choices } })),
    ['me'],
  )

/** What happened, part by part, about a subject, in a project, or all of it. */
export const useActivity = (filter: { subject?: string; project?: string }, limit = 20) =>
  $api.useInfiniteQuery(
    'get',
    '/api/v1/activity',
    { params: { query: { ...filter, limit } } },
    { pageParamName: 'cursor', initialPageParam: '', getNextPageParam: (last) => last.next_cursor || undefined },
  )

export const useComment = () =>
  useChange(
    (body: { on?: number; subject?: string; text: string }) => data(api.POST('/api/v1/comments', { body })),
    ['activity'],
  )

export type AuditSearch = Omit<NonNullable<paths['/api/v1/audit']['get']['parameters']['query']>, 'limit' | 'cursor'>

export const useAudit = (search: AuditSearch) =>
  $api.useInfiniteQuery(
    'get',
    '/api/v1/audit',
    { params: { query: { ...search, limit: 40 } } },
    {
      pageParamName: 'cursor',
      initialPageParam: '',
      getNextPageParam: (last) => last.next_cursor || undefined,
      placeholderData: (before) => before,
    },
  )

export const useVerify = () => useChange(() => data(api.POST('/api/v1/audit/verify', { body: {} })), [])

export const useSearches = () => $api.useQuery('get', '/api/v1/audit/searches')

export const useSaveSearch = () =>
  useChange(
    (body: { name: string; query: Record<string, string>; shared: boolean }) =>
      data(api.POST('/api/v1/audit/searches', { body })),
    ['audit'],
  )

export const useRemoveSearch = () =>
  useChange(
    (search: number) => data(api.DELETE('/api/v1/audit/searches/{search}', { params: { path: { search } } })),
    ['audit'],
  )
