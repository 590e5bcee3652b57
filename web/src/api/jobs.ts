import { $api, api, data } from './client'
import type { components } from './schema'
import { useChange } from './stale'
import { answer } from './uploads'

export type Job = components['schemas']['Job']

const ended = (j: Job) => j.state !== 'waiting' && j.state !== 'running'

/** Jobs, newest first, of one version when it is given; again every other second while one goes on. */
export const useJobs = (version?: string) =>
  $api.useQuery(
    'get',
    '/api/v1/jobs',
    { params: { query: { limit: 100, version } } },
    {
      refetchInterval: (query) => (query.state.data?.items.every(ended) === false ? 2000 : false),
      placeholderData: (before) => before,
    },
  )

/** One job; again every second while it goes on. */
export const useJob = (job: string) =>
  $api.useQuery(
    'get',
    '/api/v1/jobs/{job}',
    { params: { path: { job } } },
    { refetchInterval: (query) => (query.state.data && !ended(query.state.data) ? 1000 : false) },
  )

/** What a job did and met; again while it goes on. */
export const useJobLog = (j: Job) =>
  $api.useQuery(
    'get',
    '/api/v1/jobs/{job}/log',
    { params: { path: { job: j.id } } },
    { refetchInterval: ended(j) ? false : 2000 },
  )

export const useStopJob = (job: string) =>
  useChange(
    (reason: string) => data(api.POST('/api/v1/jobs/{job}/stop', { params: { path: { job } }, body: { reason } })),
    ['jobs'],
  )

export const useResumeJob = (job: string) =>
  useChange(() => data(api.POST('/api/v1/jobs/{job}/resume', { params: { path: { job } }, body: {} })), ['jobs'])

/** Where what a job found can be fetched. */
export const foundAt = (job: string, what: 'answers' | 'put-aside', format: string) =>
  `/api/v1/jobs/${job}/${what}?format=${format}`

/** Begins a job that asks a version about the rows of a file. */
export const useScore = () =>
  useChange(
    async ({ asked, environment, file }: { asked: string; environment: string; file: File }) => {
      const query = new URLSearchParams({ asked, name: file.name, ...(environment && { environment }) })
      return answer<Job>(await fetch(`/api/v1/jobs/score?${query.toString()}`, { method: 'POST', body: file }))
    },
    ['jobs'],
  )

/** In which ways the service proves a version. */
export type Proof = 'evaluate' | 'check' | 'robustness' | 'importance' | 'replay'

interface Proving {
  proof: Proof
  version: string
  environment: string
  /** What this way of proving takes besides; what is empty is left out. */
  more: Record<string, string>
  file?: File
}

/** Begins a job that proves a version. */
export const useProve = () =>
  useChange(
    async ({ proof, version, environment, more, file }: Proving) => {
      const asked = proof === 'replay' ? { to: version } : { asked: version }
      const all = Object.entries({ ...asked, environment, ...more }).filter(([, v]) => v.trim() !== '')
      if (proof === 'robustness' || proof === 'replay') {
        const body = JSON.stringify(Object.fromEntries(all))
        const headers = { 'Content-Type': 'application/json' }
        return answer<Job>(await fetch(`/api/v1/jobs/${proof}`, { method: 'POST', headers, body }))
      }
      const query = new URLSearchParams([...all, ...(file ? [['name', file.name]] : [])])
      return answer<Job>(await fetch(`/api/v1/jobs/${proof}?${query.toString()}`, { method: 'POST', body: file ?? '' }))
    },
    ['jobs'],
  )

export type Schedule = components['schemas']['Schedule']

/** What is scored again and again; how far its turns are is told by events of jobs. */
export const useSchedules = () => $api.useQuery('get', '/api/v1/schedules', { params: { query: { limit: 200 } } })

export const usePauseSchedule = (schedule: string) =>
  useChange(
    (paused: boolean) =>
      data(api.PATCH('/api/v1/schedules/{schedule}', { params: { path: { schedule } }, body: { paused } })),
    ['schedules'],
  )

export const useTurnNow = (schedule: string) =>
  useChange(
    () => data(api.POST('/api/v1/schedules/{schedule}/turns', { params: { path: { schedule } }, body: {} })),
    ['schedules', 'jobs'],
  )
