// A client of Inner Ladder: openapi-fetch with the types of the document, which make clients writes.
import createClient, { type Client } from 'openapi-fetch'

import type { components, paths } from './schema.js'

export type Schemas = components['schemas']

/** Why the service refused, with what to do instead. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly said: Schemas['Problem'],
  ) {
    super([said.detail, said.remedy].filter(Boolean).join('; '))
  }
}

/** Calls the API of one service with one token; what is refused is thrown as a Problem. */
export function innerLadder(server: string, token: string): Client<paths> {
  const api = createClient<paths>({ baseUrl: server, headers: { Authorization: `Bearer ${token}` } })
  api.use({
    async onResponse({ response }) {
      if (response.ok) return
      throw new Problem(response.status, (await response.json()) as Schemas['Problem'])
    },
  })
  return api
}

/** Goes through all parts of a list. */
export async function* each<T>(
  part: (cursor?: string) => Promise<{ data?: { items: T[]; next_cursor?: string } }>,
): AsyncGenerator<T> {
  for (let cursor: string | undefined; ; ) {
    const { data } = await part(cursor)
    yield* data?.items ?? []
    cursor = data?.next_cursor
    if (!cursor) return
  }
}
