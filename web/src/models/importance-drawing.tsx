import type { Evidence } from '../api/client'
import { count, number } from '../ui/format'
import { To } from '../ui/parts'
import { TableHead } from '../ui/table-head'

type Report = NonNullable<Evidence['importance']>
type Input = Report['importances'][number]

/** On which inputs a version relies, those that matter most first, and how its predictions go with each. */
export function ImportanceDrawing({ report: r }: { report: Report }) {
  const size = (i: Input) => i.loss ?? i.moves
  const most = Math.max(...r.importances.map((i) => size(i).high), Number.MIN_VALUE)
  const all = r.importances.flatMap((i) => [...(i.low ?? []), ...(i.high ?? []), ...(i.curves ?? []).flat()])
  const scale = { low: Math.min(...all), high: Math.max(...all) }
  const claimed = r.importances.some((i) => i.claimed !== undefined)
  const unit = r.class ? 'shares of the rows' : (r.unit ?? '')
  return (
    <div className="grid gap-3">
      <div className="overflow-x-auto">
        <table className="text-[13px]" data-importance>
          <TableHead
            columns={[
              'input',
              r.measure ? `${r.measure} rises by` : 'predictions move by',
              '',
              ...(r.measure ? ['predictions move by'] : []),
              ...(claimed ? ['claimed'] : []),
              r.class ? `share of ${r.class}, as it moves` : `${r.output}, as it moves`,
              '',
            ]}
          />
          <tbody>
            {r.importances.map((i) => (
              <tr key={i.input} className="border-line border-t *:py-1.5 *:pr-4">
                <td>{i.input}</td>
                <td>{i.rows > 0 && <Bar of={size(i)} most={most} />}</td>
                <td className="whitespace-nowrap">{i.rows > 0 ? <Half of={size(i)} /> : 'not answered'}</td>
                {r.measure && <td className="whitespace-nowrap">{i.rows > 0 ? <Half of={i.moves} /> : '–'}</td>}
                {claimed && <td>{i.claimed === undefined ? '–' : number(i.claimed, 3)}</td>}
                <td>
                  <Dependence input={i} scale={scale} />
                </td>
                <td className="text-ink-2 text-[12px] whitespace-nowrap">{ends(i)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <p className="text-ink-2 text-[12.5px]">
        in {unit || `the unit of ${r.output}`}; ± is half the interval of 95 %. As an input moves, all else stays: drawn
        from {number(scale.low, 3)} to {number(scale.high, 3)} are the mean (line), four fifths of the rows (band), and
        single rows (faint)
      </p>
      <p className="text-ink-2 text-[12.5px]">
        {count(r.rows)} rows
        {r.judged && (
          <>
            {' '}
            of {r.data ?? r.judged.table} (sha256 {r.judged.digest.slice(0, 12)}), each input shuffled {r.rounds} times,
            in <To to={`/models/jobs/${r.judged.job}`}>{r.judged.job}</To>, by {r.judged.by}
          </>
        )}
        {r.loss !== undefined && `; for the rows as they are ${r.measure} is ${number(r.loss)}`}
        {!!r.left_out && `; ${count(r.left_out)} left out without an answer or truth`}
      </p>
    </div>
  )
}

type Between = Input['moves']

function Half({ of: b }: { of: Between }) {
  return (
    <>
      {number(b.value, 3)} <span className="text-ink-2 text-[12px]">± {number((b.high - b.low) / 2, 2)}</span>
    </>
  )
}

/** A figure as a bar from the left, with its interval as a whisker. */
function Bar({ of: b, most }: { of: Between; most: number }) {
  const at = (x: number) => 8 + (108 * Math.max(x, -most / 18)) / most
  return (
    <svg viewBox="0 0 120 14" className="h-3.5 w-36" aria-hidden>
      <line x1={at(0)} x2={at(0)} y1="0" y2="14" stroke="var(--ink-3)" />
      <rect
        x={Math.min(at(0), at(b.value))}
        width={Math.max(0.5, Math.abs(at(b.value) - at(0)))}
        y="3"
        height="8"
        fill={b.low > 0 ? 'var(--main)' : 'var(--line-strong)'}
      />
      <line x1={at(b.low)} x2={at(b.high)} y1="7" y2="7" stroke="var(--ink)" />
    </svg>
  )
}

const wide = 200
const tall = 44

/** How predictions go with an input: numbers as curves, levels as points with their bands. */
function Dependence({ input: i, scale }: { input: Input; scale: { low: number; high: number } }) {
  const at = i.at ?? []
  const mean = i.mean ?? []
  if (at.length === 0 || mean.length === 0) return <span className="text-ink-3">–</span>
  const numeric = at.every((v) => typeof v === 'number')
  const first = numeric ? Number(at[0]) : 0
  const span = numeric ? Number(at.at(-1)) - first || 1 : at.length
  const x = (k: number) => 3 + ((wide - 6) * (numeric ? Number(at[k]) - first : k + 0.5)) / span
  const y = (v: number) => tall - 3 - ((tall - 6) * (v - scale.low)) / (scale.high - scale.low || 1)
  const line = (values: readonly number[]) => values.map((v, k) => `${x(k)},${y(v)}`).join(' ')
  const low = i.low ?? []
  const high = i.high ?? []
  const said = at.map((v, k) => `${String(v)}: ${number(mean[k] ?? 0, 3)}`).join('\n')
  return (
    <svg viewBox={`0 0 ${wide} ${tall}`} className="h-11 w-[200px]" role="img" aria-label={`${i.input}: ${said}`}>
      <title>{said}</title>
      {numeric ? (
        <>
          <polygon
            points={`${line(low)} ${line(high).split(' ').reverse().join(' ')}`}
            fill="var(--main)"
            opacity="0.14"
          />
          {(i.curves ?? []).map((c, k) => (
            <polyline key={k} points={line(c)} fill="none" stroke="var(--ink-3)" strokeWidth="0.5" opacity="0.45" />
          ))}
          <polyline points={line(mean)} fill="none" stroke="var(--main)" strokeWidth="2" />
        </>
      ) : (
        mean.map((m, k) => (
          <g key={k}>
            <line x1={x(k)} x2={x(k)} y1={y(low[k] ?? m)} y2={y(high[k] ?? m)} stroke="var(--main)" opacity="0.35" />
            <circle cx={x(k)} cy={y(m)} r="3" fill="var(--main)" />
          </g>
        ))
      )}
    </svg>
  )
}

/** From where to where an input moves. */
function ends(i: Input) {
  const at = i.at ?? []
  if (at.length === 0) return ''
  if (at.some((v) => typeof v !== 'number')) {
    const names = at.map(String).join(', ')
    return names.length > 42 ? `${at.length} levels` : names
  }
  return `${number(Number(at[0]), 3)} to ${number(Number(at.at(-1)), 3)} ${i.unit ?? ''}`
}
