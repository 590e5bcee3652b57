import type { Evidence } from '../api/client'
import { CopiesDrawing } from '../copies/copies-drawing'
import { count, exact } from '../ui/format'
import { Ref, To } from '../ui/parts'
import { BesideAnother } from './beside-another'
import { Segments } from './evaluation-rows'

type Replay = NonNullable<Evidence['replay']>

/** What came of asking a version again what callers had asked another: both answers side by side. */
export function ReplayDrawing({ replay: r }: { replay: Replay }) {
  const failures = Object.entries(r.failures ?? {})
  return (
    <div className="grid gap-4">
      <CopiesDrawing report={r} sent="requests" />
      {!!r.failed_then && (
        <p className="text-[13.5px]">
          {count(r.failed_then)} of them had failed before; {count(r.recovered ?? 0)} of these were answered now.
        </p>
      )}
      {failures.length > 0 && (
        <ul className="text-[13px]">
          {failures.map(([why, n]) => (
            <li key={why}>
              <span className="text-bad">✕ {count(n)} failed</span> <span className="text-ink-2">{why}</span>
            </li>
          ))}
        </ul>
      )}
      {r.segments && r.segments.length > 0 && (
        <div>
          <p className="text-ink-2 mb-1 text-[12.5px]">
            <b className="text-ink">where both differ</b>: parts of the rows by their inputs, the most first
          </p>
          <Segments segments={r.segments} worse="more than all" />
        </div>
      )}
      {r.truth?.against && (
        <div>
          <p className="text-ink-2 mb-1 text-[12.5px]">
            <b className="text-ink">where the truth is known by now</b>
          </p>
          <BesideAnother against={r.truth.against} />
        </div>
      )}
      <Source replay={r} />
    </div>
  )
}

/** Which requests they were, and where each of them can be seen. */
function Source({ replay: r }: { replay: Replay }) {
  const left = Object.entries(r.left_out ?? {})
  return (
    <p className="text-ink-2 text-[12.5px]">
      {count(r.replayed)} of {count(r.found ?? r.replayed)} requests
      {r.against && (
        <>
          {' '}
          that <Ref to={r.against} /> answered
        </>
      )}
      {r.endpoint && (
        <>
          {' '}
          for <To to={`/endpoints/${r.endpoint}`}>{r.endpoint}</To>
        </>
      )}
      {r.from &&
        r.until &&
        ` from ${exact(new Date(r.from)).slice(0, 16)} to ${exact(new Date(r.until)).slice(0, 16)} UTC`}
      {r.judged && (
        <>
          , each of them in <To to={`/models/jobs/${r.judged.job}`}>{r.judged.job}</To>, judged by {r.judged.by}
        </>
      )}
      {left.length > 0 && `; not asked again: ${left.map(([why, n]) => `${count(n)}: ${why}`).join('; ')}`}
    </p>
  )
}
