import type { Endpoint } from '../api/client'

/** The version in the main lane of an endpoint; nothing where none answers. */
export const mainOf = (e: Endpoint | undefined) => e?.split?.lanes.find((l) => l.kind === 'main')?.version
