import type { Version } from '../api/client'
import { ago, exact, number } from '../ui/format'
import { useClock } from '../ui/clock'
import { Tag, To } from '../ui/parts'
import { TableHead } from '../ui/table-head'

export type Measured = NonNullable<Version['measured']>[string]

/** Where the reports of a version are shown. */
const reportsOf = (ref: string) => `/models/${ref.replace('@', '/versions/')}?show=evidence`

/** A metric of a version, and behind it the report that measured it; one without is only claimed. */
export function MetricValue({ of, value, measured }: { of: string; value: number; measured?: Measured }) {
  return (
    <span className="whitespace-nowrap">
      {number(value)}
      {measured && (
        <span
          className="text-ink-2 ml-1.5 text-[12px]"
          title={`measured by ${measured.evidence}${measured.data ? ` on ${measured.data}` : ''}, ${measured.at}`}
        >
          <To to={reportsOf(of)}>{measured.evidence}</To>
          {measured.differs && <span className="text-bad"> claimed {number(measured.claimed ?? 0)}</span>}
        </span>
      )}
    </span>
  )
}

/** The metrics of a version: what counts, which report measured it, and what was claimed instead. */
export function MetricTable({ version: v }: { version: Version }) {
  const now = useClock()
  const names = Object.keys(v.metrics).sort()
  return (
    <table className="mb-3 w-full">
      <TableHead columns={['metric', 'counts', 'measured by', 'claimed']} />
      <tbody>
        {names.map((name) => {
          const m = v.measured?.[name]
          const claimed = m ? m.claimed : v.metrics[name]
          return (
            <tr key={name} className="border-line border-t *:py-1 *:pr-3 *:align-baseline *:[overflow-wrap:anywhere]">
              <td className="text-ink-2">{name}</td>
              <td className="font-semibold">{number(v.metrics[name] ?? 0)}</td>
              <td>
                {m ? (
                  <span title={`${exact(new Date(m.at))}, ${ago(new Date(m.at), now)}`}>
                    <To to={reportsOf(v.ref)}>{m.evidence}</To>
                    {m.data && <span className="text-ink-2"> {m.data}</span>}
                  </span>
                ) : (
                  <span className="text-ink-3">nothing</span>
                )}
              </td>
              <td className="whitespace-nowrap">
                {claimed === undefined ? '–' : number(claimed)} {m?.differs && <Tag tone="bad">differs</Tag>}
              </td>
            </tr>
          )
        })}
      </tbody>
    </table>
  )
}
