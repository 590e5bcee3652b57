import createClient, { type Middleware } from 'openapi-fetch'
import createHooks from 'openapi-react-query'

import type { components, paths } from './schema'

type Schemas = components['schemas']
export type Accuracy = Schemas['Accuracy']
export type Alert = Schemas['Alert']
export type Contract = Schemas['Contract']
export type Comparison = Schemas['Comparison']
export type ColumnDrift = Schemas['ColumnDrift']
export type Drift = Schemas['Drift']
export type CustomSignal = Schemas['CustomSignal']
export type Distribution = Schemas['Distribution']
export type Endpoint = Schemas['Endpoint']
export type EndpointNow = Schemas['EndpointNow']
export type Environment = Schemas['Environment']
export type Entry = Schemas['Entry']
export type Happening = Schemas['Happening']
export type Me = Schemas['Me']
export type Notice = Schemas['Notice']
export type Person = Schemas['Person']
export type Role = Schemas['Role']
export type SavedSearch = Schemas['SavedSearch']
export type Token = Schemas['Token']
export type Webhook = Schemas['Webhook']
export type Evaluation = Schemas['Evaluation']
export type Evidence = Schemas['Evidence']
export type Finding = Schemas['Finding']
export type KindInfo = Schemas['KindInfo']
export type LadderRevision = Schemas['LadderWithETag']
export type Preview = Schemas['Preview']
export type Requirement = Schemas['Requirement']
export type Review = Schemas['Review']
export type Rung = Schemas['Rung']
export type Vouchers = Schemas['Vouchers']
export type Ladder = Schemas['Ladder']
export type Lane = Schemas['Lane']
export type LaneNow = Schemas['LaneNow']
export type Model = Schemas['Model']
export type Placement = Schemas['Placement']
export type Promotion = Schemas['Promotion']
export type Row = Schemas['Row']
export type Series = Schemas['Series']
export type Split = Schemas['Split']
export type RouteRule = NonNullable<Split['rules']>[number]
export type Card = Schemas['Card']
export type ColumnCounts = Schemas['ColumnCounts']
export type Contents = Schemas['Contents']
export type Curve = Schemas['Curve']
export type DataSet = Schemas['DataSet']
export type Diff = Schemas['Diff']
export type Foreseen = Schemas['Foreseen']
export type Found = Schemas['Found']
export type Label = Schemas['Label']
export type Lineup = Schemas['Lineup']
export type LookedAt = Schemas['LookedAt']
export type Profile = Schemas['Profile']
export type Keeping = Schemas['Keeping']
export type KeptRequest = Schemas['Kept']
export type RequestShown = Schemas['RequestShown']
export type Tried = Schemas['Tried']
export type Watches = Schemas['Watches']
export type OutcomesShown = Schemas['OutcomesShown']
export type Stand = Schemas['Stand']
export type RefusedNow = Schemas['RefusedNow']
export type Registered = Schemas['Registered']
export type Registration = Schemas['Registration']
export type Run = Schemas['Run']
export type Trace = Schemas['Trace']
export type Uploading = Schemas['Uploading']
export type Version = Schemas['Version']

/** What the service answered instead of what was asked for. */
export class ProblemError extends Error {
  readonly problem: Schemas['Problem']
  constructor(problem: Schemas['Problem']) {
    super(problem.remedy ? `${problem.detail}; ${problem.remedy}` : problem.detail)
    this.problem = problem
  }
}

const unreachable: Schemas['Problem'] = {
  type: 'about:blank',
  title: 'No answer',
  status: 0,
  code: 'unreachable',
  detail: 'The service does not answer',
  remedy: 'see that it runs; the console tries again by itself',
}

const problems: Middleware = {
  async onResponse({ response }) {
    if (response.ok) return
    const body: unknown = await response.json().catch(() => undefined)
    throw new ProblemError(body ? (body as Schemas['Problem']) : { ...unreachable, status: response.status })
  },
  onError: () => new ProblemError(unreachable),
}

const odd = /[\u202a-\u202e\u2066-\u2069]/g

/** Characters that turn around what follows, out of files that somebody sent, are written out wherever they are shown. */
const written: Middleware = {
  async onResponse({ response }) {
    if (!response.headers.get('content-type')?.includes('json')) return
    const text = await response.clone().text()
    if (text.search(odd) < 0) return
    return new Response(
      text.replace(odd, (c) => `⟨U+${c.charCodeAt(0).toString(16).toUpperCase()}⟩`),
      response,
    )
  },
}

export const api = createClient<paths>({ baseUrl: window.location.origin })
api.use(problems)
api.use(written)

/** The data of an answer; a problem was thrown before. */
export async function data<T>(answer: Promise<{ data?: T }>): Promise<T> {
  return (await answer).data as T
}

/** Query hooks made from the document: a query is known by its method, path and parameters. */
export const $api = createHooks(api)
