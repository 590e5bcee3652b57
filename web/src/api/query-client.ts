import { QueryClient } from '@tanstack/react-query'

import { ProblemError } from './client'

/** The console's store of what it has read; made once, in main, and handed down. */
export const newQueryClient = () =>
  new QueryClient({
    defaultOptions: {
      queries: {
        // Changes arrive as events; what was read stays right until one says otherwise.
        staleTime: 30_000,
        retry: (failures, error) => !(error instanceof ProblemError && error.problem.status !== 0) && failures < 3,
      },
    },
  })
