import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useContext, useEffect } from 'react'

import type { Series } from './client'
import { wholeSeries } from './followed'
import { FollowContext } from './live'

/**
 * What an endpoint did over a window that ends at a moment, or now. What goes on is read once; what is new comes by the
 * stream of events and is put behind it.
 */
export function useSeries(endpoint: string, window: string, until?: string) {
  const client = useQueryClient()
  const follow = useContext(FollowContext)
  const whole = wholeSeries(endpoint, window, until)
  const query = useQuery({ ...whole, placeholderData: (before: Series | undefined) => before, staleTime: Infinity })
  const goesOn = query.data !== undefined && !query.isPlaceholderData && until === undefined
  useEffect(() => {
    if (!goesOn) return
    return follow(() => {
      const known = client.getQueryData<Series>(wholeSeries(endpoint, window).queryKey)
      // The last step was not over yet.
      const after = known ? Date.parse(known.to) - 2 * known.step_ms : Date.now()
      return [endpoint, window, new Date(after).toISOString()].join(',')
    })
  }, [goesOn, endpoint, window, follow, client])
  return query
}
