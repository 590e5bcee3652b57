import { Link } from 'react-router'

import type { Endpoint } from '../api/client'
import { short } from '../ui/format'
import { Button } from '../ui/parts'

/** The pages about an endpoint. */
export function EndpointLinks({ endpoint: e, mayInspect }: { endpoint: Endpoint; mayInspect: boolean }) {
  const split = e.split
  const main = split?.lanes.find((l) => l.kind === 'main')
  const trials = split?.lanes.filter((l) => l.kind !== 'main') ?? []
  return (
    <>
      {split && main && trials[0] && (
        <Link to={`/endpoints/${e.name}/compare?incumbent=${main.version}&candidate=${trials[0].version}`}>
          <Button tabIndex={-1}>
            Compare {short(main.version)} and {short(trials[0].version)}
          </Button>
        </Link>
      )}
      {mayInspect && main && !split?.elsewhere && (
        <Link to={`/try/${e.environment}/${encodeURIComponent(main.version)}?endpoint=${e.name}`}>
          <Button tabIndex={-1}>Try</Button>
        </Link>
      )}
      {mayInspect && !split?.elsewhere && (
        <Link to={`/endpoints/${e.name}/requests`}>
          <Button tabIndex={-1}>Requests</Button>
        </Link>
      )}
      {split && (
        <Link to={`/endpoints/${e.name}/accuracy`}>
          <Button tabIndex={-1}>Accuracy</Button>
        </Link>
      )}
      {split && (
        <Link to={`/endpoints/${e.name}/drift`}>
          <Button tabIndex={-1}>Drift</Button>
        </Link>
      )}
      {split && (
        <Link to={`/endpoints/${e.name}/custom`}>
          <Button tabIndex={-1}>Custom signals</Button>
        </Link>
      )}
    </>
  )
}
