import type { EndpointNow } from '../api/client'

/** How an endpoint is, in a word. */
export type State = NonNullable<EndpointNow['state']>

/** The states of endpoints, the worst first. */
export const worstFirst: State[] = ['unhealthy', 'failing', 'refusing', 'drifting', 'no traffic', 'on trial', 'well']
