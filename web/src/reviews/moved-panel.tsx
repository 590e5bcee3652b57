import type { Review } from '../api/client'
import { MovedColumns } from '../models/profile-view'
import { short } from '../ui/format'
import { Empty, Panel, To } from '../ui/parts'

/** How the rows behind a candidate moved against those behind the incumbent, what moved most first. */
export function MovedPanel({ review: r }: { review: Review }) {
  const moved = r.moved
  if (!r.incumbent) return null
  const columns = moved?.columns ?? []
  const shown = columns.filter((c) => c.movement.verdict !== 'steady')
  const only = [
    ...(moved?.only_to ?? []).map((c) => `${c} only behind ${short(r.candidate.ref)}`),
    ...(moved?.only_from ?? []).map((c) => `${c} only behind ${short(r.incumbent?.ref ?? '')}`),
  ]
  const version = `/models/${r.candidate.model}/versions/${r.candidate.number}`
  return (
    <Panel
      title={`How inputs and target moved against the data of ${short(r.incumbent.ref)}`}
      aside={<To to={`${version}?show=differences`}>all differences</To>}
    >
      {moved ? (
        <>
          <p className="text-ink-2 mb-2">
            {shown.length === 0 ? `None of ${columns.length} columns moved.` : ''}
            {shown.length > 0 && columns.length > shown.length && `${columns.length - shown.length} others are steady.`}
            {only.length > 0 && ` ${only.join(', ')}.`}
          </p>
          <MovedColumns profiles={moved} columns={shown.slice(0, 4)} />
        </>
      ) : (
        <Empty>It is not known: one of the two was registered without a reference profile.</Empty>
      )}
    </Panel>
  )
}
