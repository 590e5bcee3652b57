import type { Accuracy } from '../api/client'
import { number, words } from '../ui/format'
import { Panel, Ref, Verdict } from '../ui/parts'
import { TableHead } from '../ui/table-head'

type Of = Accuracy['items'][number]

/** How right one version is in one output, beside what it was at registration. */
export function VersionAccuracy({ of: v }: { of: Of }) {
  return (
    <Panel
      title={
        <span>
          <Ref to={v.version} /> <span className="text-ink-2">{v.output}</span>
        </span>
      }
      aside={
        <span className="text-ink-2 text-[12.5px]">
          {v.rows} predictions, {(v.coverage * 100).toFixed(1)} % of its requests
        </span>
      }
    >
      <p className="mb-2 max-w-[80ch]">{v.sentence}</p>
      <table className="w-full text-[13px]">
        <TableHead columns={['measure', 'now', '95 %', 'at registration', '']} />
        <tbody>
          {v.measures.map((m) => (
            <tr key={m.name} className="border-line border-t *:py-1 *:pr-3" data-measure={m.name}>
              <td>{words(m.name)}</td>
              <td className="font-semibold">
                {number(m.value)} {m.unit}
              </td>
              <td>{m.low === undefined || m.high === undefined ? '–' : `${number(m.low)} … ${number(m.high)}`}</td>
              <td>{m.registered === undefined ? '–' : number(m.registered)}</td>
              <td>{m.verdict && <Verdict verdict={m.verdict} />}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {v.confusion && <Confusion of={v.confusion} />}
    </Panel>
  )
}

/** Classes by truth and prediction. */
function Confusion({ of }: { of: NonNullable<Of['confusion']> }) {
  const classes = [...new Set([...Object.keys(of), ...Object.values(of).flatMap((row) => Object.keys(row))])].sort()
  return (
    <table className="mt-3 text-[13px]" aria-label="Truth and prediction">
      <thead>
        <tr className="text-ink-2 *:pr-4 *:text-left *:font-normal">
          <th>truth ↓ predicted →</th>
          {classes.map((c) => (
            <th key={c}>{c}</th>
          ))}
        </tr>
      </thead>
      <tbody>
        {classes.map((truth) => (
          <tr key={truth} className="border-line border-t *:py-0.5 *:pr-4">
            <td className="text-ink-2">{truth}</td>
            {classes.map((predicted) => (
              <td key={predicted} className={truth === predicted ? 'text-main font-semibold' : undefined}>
                {of[truth]?.[predicted] ?? 0}
              </td>
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  )
}
