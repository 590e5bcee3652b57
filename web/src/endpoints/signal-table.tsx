import type { Comparison, Row } from '../api/client'
import { count, ms, number, percent, signalText } from '../ui/format'
import { Ref, Verdict } from '../ui/parts'

const end = (x: number | undefined, write: (x: number) => string) => (x === undefined ? '?' : write(x))

function Range({ low, high, write }: { low?: number; high?: number; write: (x: number) => string }) {
  if (low === undefined && high === undefined) return null
  return (
    <span className="text-ink-3 ml-2 text-[12.5px] whitespace-nowrap">
      {end(low, write)} to {end(high, write)}
    </span>
  )
}

export function SignalTable({ comparison: c }: { comparison: Comparison }) {
  const plain = (r: Row) => (x: number) => `${number(x)} ${r.unit}`.trim()
  const side = (r: Row) => (r.unit === 'ms' ? ms : r.unit === 'share' ? (x: number) => percent(x) : plain(r))
  const difference = (r: Row) => (x: number) => {
    if (r.relation === 'ratio') return `× ${x.toFixed(2)}`
    return `${x > 0 ? '+' : ''}${r.unit === 'share' ? `${(x * 100).toFixed(2)} points` : plain(r)(x)}`
  }
  const bare = (r: Row) => (x: number) => {
    if (r.relation === 'ratio') return x.toFixed(2)
    return r.unit === 'share' ? (x * 100).toFixed(2) : number(x)
  }
  return (
    <div className="overflow-x-auto">
      <table className="w-full border-collapse text-right">
        <thead className="text-ink-3 text-[12px]">
          <tr className="*:px-1.5 *:py-1 *:font-normal">
            <th className="text-left">signal</th>
            <th>
              <Ref to={c.incumbent} />
            </th>
            <th>
              <Ref to={c.candidate} />
            </th>
            <th>difference</th>
            <th>verdict</th>
          </tr>
        </thead>
        <tbody className="*:border-line *:border-t *:*:px-1.5 *:*:py-1.5">
          <tr>
            <td className="text-left">requests</td>
            <td>{count(c.incumbent_requests)}</td>
            <td>{count(c.candidate_requests)}</td>
            <td />
            <td />
          </tr>
          {c.rows.map((r) => (
            <tr key={r.signal} title={r.sentence}>
              <td className="text-left">{signalText(r.signal)}</td>
              <td>
                {r.incumbent === undefined ? '–' : side(r)(r.incumbent)}
                <Range low={r.incumbent_low} high={r.incumbent_high} write={side(r)} />
              </td>
              <td>
                {r.candidate === undefined ? '–' : side(r)(r.candidate)}
                <Range low={r.candidate_low} high={r.candidate_high} write={side(r)} />
              </td>
              <td>
                {r.low === undefined && r.high === undefined ? '–' : difference(r)(r.difference)}
                <Range low={r.low} high={r.high} write={bare(r)} />
              </td>
              <td>
                <Verdict verdict={r.verdict} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}
