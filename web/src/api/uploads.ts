import { useQuery } from '@tanstack/react-query'

import { api, data, ProblemError, type LookedAt, type Registered, type Registration, type Uploading } from './client'
import { registry, useChange } from './stale'

export type Part = 'artifact' | 'sample' | 'reference' | 'card' | 'requirements' | 'attachment' | 'answers' | 'report'

const piece = 16 << 20
const attempts = 5

const pause = (ms: number) => new Promise((done) => setTimeout(done, ms))

/** Sends a file in pieces and goes on where it was when the connection breaks. */
export async function upload(file: File, progress: (share: number) => void): Promise<Uploading> {
  const begun = await fetch(`/api/v1/uploads?name=${encodeURIComponent(file.name)}`, {
    method: 'POST',
    headers: { 'Upload-Length': String(file.size), 'Upload-Complete': '?0' },
  })
  let up = await answer<Uploading>(begun)
  for (let failed = 0; !up.complete;) {
    const end = Math.min(file.size, up.offset + piece)
    try {
      const sent = await fetch(`/api/v1/uploads/${up.id}`, {
        method: 'PATCH',
        headers: {
          'Content-Type': 'application/partial-upload',
          'Upload-Offset': String(up.offset),
          'Upload-Complete': end === file.size ? '?1' : '?0',
        },
        body: file.slice(up.offset, end),
      })
      up = await answer<Uploading>(sent)
      failed = 0
      progress(file.size === 0 ? 1 : up.offset / file.size)
    } catch (error) {
      if (error instanceof ProblemError && error.problem.status >= 400 && error.problem.status !== 409) throw error
      if (++failed === attempts) throw error
      await pause(300 * failed * failed)
      up = await data(api.GET('/api/v1/uploads/{upload}', { params: { path: { upload: up.id } } })).catch(() => up)
    }
  }
  return up
}

/** The answer to a call that sends a file, or why there is none. */
export async function answer<T>(response: Response): Promise<T> {
  const body: unknown = await response.json()
  if (!response.ok) throw new ProblemError(body as ConstructorParameters<typeof ProblemError>[0])
  return body as T
}

/** What can be read off an upload. */
export const look = (id: string, part: Part, target: string[]): Promise<LookedAt> =>
  data(api.GET('/api/v1/uploads/{upload}/look', { params: { path: { upload: id }, query: { part, target } } }))

/** Registers a version whose files were uploaded before. */
async function register(spec: Registration): Promise<Registered> {
  return answer<Registered>(
    await fetch('/api/v1/versions', {
      method: 'POST',
      headers: { 'Content-Type': 'application/json' },
      body: JSON.stringify(spec),
    }),
  )
}

/** What a registration would make; asked once nobody has typed for a moment. */
export const useForeseen = (spec: Registration | undefined) =>
  useQuery({
    queryKey: ['foreseen', spec],
    queryFn: async ({ signal }) => {
      await pause(600)
      signal.throwIfAborted()
      return data(api.POST('/api/v1/registrations/preview', { body: spec ?? { model: '' }, signal }))
    },
    enabled: spec !== undefined,
    placeholderData: (before) => before,
    retry: false,
    staleTime: 0,
  })

export const useRegister = () => useChange(register, [...registry])
