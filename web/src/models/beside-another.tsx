import type { Evaluation } from '../api/client'
import { count, number } from '../ui/format'
import { Ref, Verdict } from '../ui/parts'
import { TableHead } from '../ui/table-head'
import { Segments, WorstRows } from './evaluation-rows'

/** How a version compares with another on the same rows: measures with the intervals of their differences, where it
 * loses. */
export function BesideAnother({ against: a }: { against: NonNullable<Evaluation['against']> }) {
  return (
    <section className="min-w-0 space-y-3 md:col-span-2" aria-label={`beside ${a.version}`}>
      <p className="text-[13.5px]">
        <b>
          beside <Ref to={a.version} />
        </b>{' '}
        on the same {count(a.rows)} rows
        {a.left_out ? `; ${count(a.left_out)} that it did not answer are left out` : ''}
      </p>
      <div className="overflow-x-auto">
        <table className="text-[13px]">
          <TableHead columns={['measure', 'is', 'was', 'difference', 'at 95 %', '']} />
          <tbody>
            {a.differences.map((d) => (
              <tr key={d.metric} className="border-line border-t *:py-1 *:pr-4">
                <td>{d.metric}</td>
                <td>{number(d.is)}</td>
                <td>{number(d.was)}</td>
                <td>{signed(d.difference)}</td>
                <td>
                  <Band bounds={d.bounds} />
                </td>
                <td>
                  <Verdict verdict={d.verdict} />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {a.segments && a.segments.length > 0 && (
        <div>
          <p className="text-ink-2 mb-1 text-[12.5px]">
            <b className="text-ink">where it loses and gains</b>: the mean difference of the error, by parts of the rows
          </p>
          <Segments segments={a.segments} worse={`worse than ${a.version}`} />
        </div>
      )}
      {a.worst && a.worst.length > 0 && <WorstRows rows={a.worst} title="where it loses most" other={a.version} />}
    </section>
  )
}

const signed = (x: number) => `${x > 0 ? '+' : ''}${number(x)}`

/** The interval of a difference, drawn around zero, with its ends. */
function Band({ bounds }: { bounds?: readonly number[] | null }) {
  const [low, high] = bounds ?? []
  if (low === undefined || high === undefined) return <span className="text-ink-3">–</span>
  const most = Math.max(Math.abs(low), Math.abs(high), Number.MIN_VALUE)
  const at = (x: number) => 50 + (48 * x) / most
  return (
    <span className="inline-flex items-center gap-2 whitespace-nowrap">
      <svg viewBox="0 0 100 12" className="h-3 w-24" aria-hidden>
        <line x1="50" x2="50" y1="0" y2="12" stroke="var(--ink-3)" />
        <rect x={at(low)} width={Math.max(1.5, at(high) - at(low))} y="3.5" height="5" rx="2.5" fill="var(--main)" />
      </svg>
      <span className="text-ink-2 text-[12px]">
        {signed(low)} to {signed(high)}
      </span>
    </span>
  )
}
