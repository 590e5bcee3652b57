import { $api, api, data, type Ladder } from './client'
import type { components, paths } from './schema'
import { registry, useChange } from './stale'

export const useLadder = (project: string | undefined) =>
  $api.useQuery(
    'get',
    '/api/v1/projects/{project}/ladder',
    { params: { path: { project: project ?? '' } } },
    { enabled: !!project },
  )

export const useLadderRevisions = (project: string) =>
  $api.useQuery('get', '/api/v1/projects/{project}/ladder/revisions', { params: { path: { project } } })

/** What a ladder would let pass today; asked anew when the ladder is another. */
export const usePreview = (project: string, ladder: Ladder) =>
  $api.useQuery(
    'post',
    '/api/v1/projects/{project}/ladder/preview',
    { params: { path: { project } }, body: { ladder } },
    { placeholderData: (before) => before, retry: false },
  )

export const useSetLadder = (project: string, revision: number) =>
  useChange(
    (body: Ladder & { reason: string }) =>
      data(
        api.PUT('/api/v1/projects/{project}/ladder', {
          params: { path: { project }, header: { 'If-Match': `"${revision}"` } },
          body,
        }),
      ),
    ['projects'],
  )

export const useRequirementKinds = () => $api.useQuery('get', '/api/v1/requirement-kinds', {}, { staleTime: Infinity })

export type PromotionFilter = NonNullable<paths['/api/v1/promotions']['get']['parameters']['query']>

export const usePromotions = (filter: PromotionFilter) =>
  $api.useQuery('get', '/api/v1/promotions', { params: { query: filter } }, { placeholderData: (before) => before })

export const useReview = (promotion: string) =>
  $api.useQuery('get', '/api/v1/promotions/{promotion}/review', { params: { path: { promotion } } })

export const usePromote = () =>
  useChange(
    (body: components['schemas']['NewPromotion']) => data(api.POST('/api/v1/promotions', { body })),
    ['promotions', ...registry],
  )

type Answer = paths['/api/v1/promotions/{promotion}/sign-offs']['post']['requestBody']

export const useSign = (promotion: string) =>
  useChange(
    (body: NonNullable<Answer>['content']['application/json']) =>
      data(api.POST('/api/v1/promotions/{promotion}/sign-offs', { params: { path: { promotion } }, body })),
    ['promotions', ...registry],
  )

export const useTick = (promotion: string) =>
  useChange(
    (body: { item: string; rung?: string; note?: string; link?: string }) =>
      data(api.POST('/api/v1/promotions/{promotion}/ticks', { params: { path: { promotion } }, body })),
    ['promotions', ...registry],
  )

export const useCarryOut = (promotion: string) =>
  useChange(
    () => data(api.POST('/api/v1/promotions/{promotion}/carry-out', { params: { path: { promotion } } })),
    ['promotions', ...registry],
  )

export const useWithdraw = (promotion: string) =>
  useChange(
    (reason: string) =>
      data(api.POST('/api/v1/promotions/{promotion}/withdraw', { params: { path: { promotion } }, body: { reason } })),
    ['promotions', ...registry],
  )

export const useEvidence = (ref: string) =>
  $api.useQuery('get', '/api/v1/versions/{ref}/evidence', { params: { path: { ref } } })

export const useAttachEvidence = (ref: string) =>
  useChange(
    ({
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
    ['versions', 'promotions'],
  )

/** Reads all files of the version anew, so it is asked for only when somebody wants to see it. */
export const useVouchers = (ref: string, wanted: boolean) =>
  $api.useQuery(
    'get',
    '/api/v1/versions/{ref}/vouchers',
    { params: { path: { ref } } },
    { enabled: wanted, staleTime: 0 },
  )
