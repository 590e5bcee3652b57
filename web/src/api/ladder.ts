import { useMutation, useQuery } from '@tanstack/react-query'

import { api, data, type Ladder } from './client'
import { queryClient } from './queries'
import type { components, paths } from './schema'

export const useLadder = (project: string | undefined) =>
  useQuery({
    queryKey: ['ladder', project],
    queryFn: () => data(api.GET('/api/v1/projects/{project}/ladder', { params: { path: { project: project ?? '' } } })),
    enabled: !!project,
  })

export const useLadderRevisions = (project: string) =>
  useQuery({
    queryKey: ['ladder', project, 'revisions'],
    queryFn: () => data(api.GET('/api/v1/projects/{project}/ladder/revisions', { params: { path: { project } } })),
  })

/** What a ladder would let pass today; asked anew when the ladder is another. */
export const usePreview = (project: string, ladder: Ladder) =>
  useQuery({
    queryKey: ['ladder', project, 'preview', JSON.stringify(ladder)],
    queryFn: () =>
      data(api.POST('/api/v1/projects/{project}/ladder/preview', { params: { path: { project } }, body: { ladder } })),
    placeholderData: (before) => before,
    retry: false,
  })

export const useSetLadder = (project: string, revision: number) =>
  useMutation({
    mutationFn: (body: Ladder & { reason: string }) =>
      data(
        api.PUT('/api/v1/projects/{project}/ladder', {
          params: { path: { project }, header: { 'If-Match': `"${revision}"` } },
          body,
        }),
      ),
    onSuccess: () => queryClient.invalidateQueries({ queryKey: ['ladder'] }),
  })

export const useRequirementKinds = () =>
  useQuery({
    queryKey: ['requirement-kinds'],
    queryFn: () => data(api.GET('/api/v1/requirement-kinds')),
    staleTime: Infinity,
  })

export type PromotionFilter = NonNullable<paths['/api/v1/promotions']['get']['parameters']['query']>

export const usePromotions = (filter: PromotionFilter) =>
  useQuery({
    queryKey: ['promotions', 'list', filter],
    queryFn: () => data(api.GET('/api/v1/promotions', { params: { query: filter } })),
    placeholderData: (before) => before,
  })

export const useReview = (promotion: string) =>
  useQuery({
    queryKey: ['promotions', 'review', promotion],
    queryFn: () => data(api.GET('/api/v1/promotions/{promotion}/review', { params: { path: { promotion } } })),
  })

const changed = {
  onSuccess: () =>
    Promise.all([
      queryClient.invalidateQueries({ queryKey: ['promotions'] }),
      queryClient.invalidateQueries({ queryKey: ['models'] }),
    ]),
}

export const usePromote = () =>
  useMutation({
    mutationFn: (body: components['schemas']['NewPromotion']) => data(api.POST('/api/v1/promotions', { body })),
    ...changed,
  })

type Answer = paths['/api/v1/promotions/{promotion}/sign-offs']['post']['requestBody']

export const useSign = (promotion: string) =>
  useMutation({
    mutationFn: (body: NonNullable<Answer>['content']['application/json']) =>
      data(api.POST('/api/v1/promotions/{promotion}/sign-offs', { params: { path: { promotion } }, body })),
    ...changed,
  })

export const useTick = (promotion: string) =>
  useMutation({
    mutationFn: (body: { item: string; rung?: string; note?: string; link?: string }) =>
      data(api.POST('/api/v1/promotions/{promotion}/ticks', { params: { path: { promotion } }, body })),
    ...changed,
  })

export const useCarryOut = (promotion: string) =>
  useMutation({
    mutationFn: () => data(api.POST('/api/v1/promotions/{promotion}/carry-out', { params: { path: { promotion } } })),
    ...changed,
  })

export const useWithdraw = (promotion: string) =>
  useMutation({
    mutationFn: (reason: string) =>
      data(api.POST('/api/v1/promotions/{promotion}/withdraw', { params: { path: { promotion } }, body: { reason } })),
    ...changed,
  })

export const useEvidence = (ref: string) =>
  useQuery({
    queryKey: ['evidence', ref],
    queryFn: () => data(api.GET('/api/v1/versions/{ref}/evidence', { params: { path: { ref } } })),
  })

export const useAttachEvidence = (ref: string) =>
  useMutation({
    mutationFn: ({
      file,
      ...query
    }: {
      file: File
      kind: NonNullable<paths['/api/v1/versions/{ref}/evidence']['post']['parameters']['query']>['kind']
      verdict?: 'passed' | 'failed'
    }) => {
      const form = new FormData()
      form.append('file', file)
      return data(
        api.POST('/api/v1/versions/{ref}/evidence', {
          params: { path: { ref }, query },
          body: form as never,
          bodySerializer: (b) => b as never,
        }),
      )
    },
    onSuccess: () =>
      Promise.all([
        queryClient.invalidateQueries({ queryKey: ['evidence'] }),
        queryClient.invalidateQueries({ queryKey: ['promotions'] }),
      ]),
  })

/** Reads all files of the version anew, so it is asked for only when somebody wants to see it. */
export const useVouchers = (ref: string, wanted: boolean) =>
  useQuery({
    queryKey: ['vouchers', ref],
    queryFn: () => data(api.GET('/api/v1/versions/{ref}/vouchers', { params: { path: { ref } } })),
    enabled: wanted,
    staleTime: 0,
  })
