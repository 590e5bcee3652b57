import { Link } from 'react-router'

import { useEndpoints } from '../api/queries'
import { Button } from '../ui/parts'
import { mainOf } from '../endpoints/main-of'

/** For every endpoint of a model that has split traffic: the way to its side-by-side page. */
export function CompareLinks({ model, versions }: { model: string; versions: number[] }) {
  const endpoints = (useEndpoints().data?.items ?? []).filter((e) => e.model === model && e.split)
  if (versions.length < 2) return null
  return endpoints.map((e) => {
    const main = mainOf(e) ?? ''
    const other =
      e.split?.lanes.find((l) => l.kind === 'trial')?.version ??
      `${model}@${versions.find((n) => `${model}@${n}` !== main) ?? 1}`
    return (
      <Link key={e.name} to={`/endpoints/${e.name}/compare?incumbent=${main}&candidate=${other}`}>
        <Button tabIndex={-1}>Compare in {e.name}</Button>
      </Link>
    )
  })
}
