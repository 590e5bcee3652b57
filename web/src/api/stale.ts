import { useMutation, useQueryClient, type Query, type QueryClient } from '@tanstack/react-query'

import type { Entry } from './client'
import type { paths } from './schema'

/** The collections of the API: the first word of their paths. Queries are known by method, path and parameters. */
type Collection = keyof paths extends infer Path
  ? Path extends `/api/v1/${infer First}/${string}`
    ? First
    : Path extends `/api/v1/${infer First}`
      ? First
      : never
  : never

/** What is told of models and their versions. */
export const registry: Collection[] = ['models', 'versions', 'catalogue', 'lineup', 'trace']

/** Where a change is felt. */
type Reach = {
  /** Collections of which only what the change is about is stale, and what is about nothing in particular: lists. */
  about?: Collection[]
  /** Collections that are stale as a whole. */
  all?: Collection[]
}

/** What a change makes stale, by the first word of its kind. */
const reach: Record<string, Reach> = {
  model: { about: registry, all: ['projects'] },
  version: { about: registry, all: ['promotions'] },
  label: { about: registry },
  run: { about: ['runs', ...registry] },
  data: { about: ['data-sets', ...registry] },
  project: { all: ['projects'] },
  promotion: { about: ['promotions', ...registry] },
  evidence: { about: ['versions'], all: ['promotions'] },
  ladder: { about: ['projects'], all: ['promotions'] },
  signing_key: { all: ['me'] },
  placement: { all: ['placements', 'running', 'endpoints', 'promotions', 'versions'] },
  environment: { all: ['environments', 'placements', 'endpoints'] },
  endpoint: { about: ['endpoints'] },
  split: { about: ['endpoints', ...registry], all: ['promotions'] },
  rollout: { about: ['endpoints', 'rollouts', ...registry], all: ['promotions'] },
  plan: { all: ['plans'] },
  incident: { about: ['endpoints', 'rollouts'], all: ['incidents', 'alerts'] },
  contract: { about: ['endpoints'], all: ['promotions'] },
  watches: { about: ['endpoints'], all: ['alerts'] },
  alert: { about: ['endpoints'], all: ['alerts'] },
  member: { all: ['people'] },
  person: { all: ['people'] },
  role: { all: ['people', 'roles'] },
  token: { all: ['tokens'] },
  caller: { about: ['endpoints'] },
  webhook: { all: ['webhooks'] },
  delivery: { all: ['webhooks'] },
  settings: { all: ['settings'] },
  secret: { all: ['settings', 'environments'] },
  job: { all: ['jobs', 'schedules'] },
  schedule: { all: ['jobs', 'schedules'] },
  search: { all: ['audit'] },
}

/** Every change is an entry of the record and may be a notice. */
const always: Collection[] = ['activity', 'audit', 'me', 'session']

/** The thing that a ref is of: heat-demand of heat-demand@7, winters of winters#2. */
const thing = (ref: string) => ref.split(/[@#]/)[0] ?? ref

const collection = (query: Query) => {
  const [, path] = query.queryKey as [unknown, unknown]
  return typeof path === 'string' ? path.split('/')[3] : undefined
}

/** The things that a query asks for by name; none where it asks for a list. */
function names(query: Query): string[] {
  const init = query.queryKey[2] as { params?: { path?: Record<string, unknown> } } | undefined
  return Object.values(init?.params?.path ?? {})
    .map(String)
    .map(thing)
}

/** Whether what a query has read may have changed with an entry of the record. */
function isStale(query: Query, entry: Entry): boolean {
  const within = (collections: Collection[] | undefined) => !!collections?.some((c) => c === collection(query))
  const { about, all } = reach[entry.kind.split('.')[0] ?? ''] ?? {}
  if (within(always) || within(all)) return true
  if (!within(about)) return false
  const asked = names(query)
  const changed = [entry.subject, ...(entry.also ?? [])].map(thing)
  return asked.length === 0 || asked.some((name) => changed.includes(name))
}

/**
 * Has queries read again. One that is being read for the first time is read once more when that has ended: its answer
 * may be from before the change, and nothing that is on its way is stale for the library.
 */
export function renew(client: QueryClient, stale: (query: Query) => boolean = () => true) {
  for (const query of client.getQueryCache().findAll({ predicate: stale, fetchStatus: 'fetching' })) {
    if (query.state.data !== undefined) continue
    const again = () => client.invalidateQueries({ queryKey: query.queryKey, exact: true })
    void query.fetch().then(again, again)
  }
  return client.invalidateQueries({ predicate: stale })
}

/** Has everything read again that an entry of the record may have changed. */
export function apply(client: QueryClient, entry: Entry) {
  void renew(client, (query) => isStale(query, entry))
}

/** A change that somebody makes here, after which some collections are read again without waiting for the event. */
export function useChange<In = void, Out = unknown>(send: (input: In) => Promise<Out>, collections: Collection[]) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: send,
    onSuccess: () => renew(client, (query) => collections.some((c) => c === collection(query))),
  })
}
