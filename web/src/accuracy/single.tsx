import { useState } from 'react'

import type { Accuracy, OutcomesShown } from '../api/client'
import { useOutcomes } from '../api/judged'
import { TruthScatter } from '../charts/truth-scatter'
import { number, short } from '../ui/format'
import { Choice } from '../ui/overlays'
import { Ago, Empty, Loaded, Panel, To } from '../ui/parts'
import { TableHead } from '../ui/table-head'

/** Single predictions beside their truth: drawn, the worst of them, and where a version is worse than on the whole. */
export function Single({ endpoint, window, of }: { endpoint: string; window: string; of: Accuracy }) {
  const first = of.items[0]
  const [version, setVersion] = useState('all')
  const query = {
    window,
    output: first?.output,
    ...(version !== 'all' && { version }),
  }
  const newest = useOutcomes(endpoint, { ...query, limit: 200 })
  const worst = useOutcomes(endpoint, { ...query, worst: true, limit: 10 })
  const unit = first?.measures[0]?.unit ?? ''
  const versions = [...new Set(of.items.map((v) => v.version))]
  return (
    <>
      <div className="grid grid-cols-[minmax(0,1fr)] gap-5 lg:grid-cols-2">
        <Panel
          title={`The newest predictions of ${first?.output ?? ''}`}
          aside={
            <Choice
              label="Version"
              value={version}
              onChange={setVersion}
              options={[{ value: 'all', text: 'all versions' }, ...versions.map((v) => ({ value: v, text: v }))]}
            />
          }
        >
          <Loaded query={newest}>
            {(n) =>
              n.items.some((o) => o.number) ? (
                <TruthScatter unit={unit} points={n.items.filter((o) => o.number)} />
              ) : (
                <Empty>Classes are counted above, by truth and prediction.</Empty>
              )
            }
          </Loaded>
        </Panel>
        <Panel title="Where it is worse">
          <Loaded query={worst}>{(w) => <Segments of={w} unit={unit} />}</Loaded>
        </Panel>
      </div>
      <Panel title="The worst predictions">
        <Loaded query={worst}>{(w) => <Worst of={w} unit={unit} />}</Loaded>
      </Panel>
    </>
  )
}

function Segments({ of, unit }: { of: OutcomesShown; unit: string }) {
  if (of.segments.length === 0) return <Empty>Too few of the requests are still in the log to tell.</Empty>
  const most = Math.max(...of.segments.map((s) => s.value))
  return (
    <>
      <p className="text-ink-2 mb-2 text-[13px]">
        {of.measure} of the newest {of.looked} predictions; {number(of.whole)} {unit} on the whole
      </p>
      <table className="w-full text-[13px]">
        <TableHead columns={['input', 'level', 'rows', of.measure, '']} />
        <tbody>
          {of.segments.slice(0, 10).map((s) => (
            <tr key={`${s.column} ${s.level}`} className="border-line border-t *:py-1 *:pr-3">
              <td>{s.column}</td>
              <td>{s.level}</td>
              <td>{s.rows}</td>
              <td>
                <span className="inline-flex items-center gap-2">
                  <span
                    aria-hidden
                    className={`inline-block h-2 rounded-sm ${s.worse ? 'bg-bad' : 'bg-main'}`}
                    style={{ width: `${(s.value / most) * 70}px` }}
                  />
                  {number(s.value)}
                </span>
              </td>
              <td className="text-bad">{s.worse && 'surely worse'}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  )
}

function Worst({ of, unit }: { of: OutcomesShown; unit: string }) {
  return (
    <table className="w-full text-[13px]" aria-label="The worst predictions">
      <TableHead columns={['request', 'version', 'predicted', 'truth', 'off by', 'inputs']} />
      <tbody>
        {of.items.map((o) => (
          <tr key={`${o.request} ${o.row} ${o.output}`} className="border-line border-t align-top *:py-1 *:pr-3">
            <td>
              <To to={`/requests/${o.request}`}>…{o.request.slice(-6)}</To>{' '}
              <span className="text-ink-2">
                <Ago at={o.at} />
              </span>
            </td>
            <td>{short(o.version)}</td>
            <td>{o.number ? `${number(o.predicted)} ${unit}` : o.predicted_class}</td>
            <td>{o.number ? `${number(o.truth)} ${unit}` : o.truth_class}</td>
            <td className="font-semibold">{o.number ? `${o.error > 0 ? '+' : ''}${number(o.error)}` : '–'}</td>
            <td className="text-ink-2 text-[12.5px]">
              {Object.entries(o.inputs ?? {})
                .map(([name, v]) => `${name} ${typeof v === 'number' ? number(v) : String(v)}`)
                .join(', ')}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}
