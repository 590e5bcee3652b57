import { useState } from 'react'

import { useCalls } from '../api/keeping'
import { LineFigure } from '../charts/line-figure'
import { clock, count, percent } from '../ui/format'
import { Ago, Empty, Loaded } from '../ui/parts'
import { SpanSwitch } from '../ui/span-switch'
import { windows, type Span } from '../ui/spans'
import { TableHead } from '../ui/table-head'

/** How many callers are listed, and how many are drawn. */
const listed = 10
const drawn = 4

/** Who called, and how much, who called most first; and over time. */
export function Calls({ endpoint }: { endpoint: string }) {
  const [span, setSpan] = useState<Span>('1 h')
  const calls = useCalls(endpoint, windows[span])
  return (
    <div className="border-line mt-3 border-t pt-3">
      <div className="mb-2 flex items-center justify-between gap-3">
        <h3 className="text-ink-2 text-[13px] font-semibold">Who called</h3>
        <SpanSwitch value={span} least="1 h" most="7 days" onChange={setSpan} />
      </div>
      <Loaded query={calls}>
        {(c) =>
          c.items.length === 0 ? (
            <Empty>Nobody has called in this time. Minutes are here when they have been written.</Empty>
          ) : (
            <>
              <table className="mb-3 w-full text-[13px]">
                <TableHead columns={['caller', 'requests', 'share', 'failed', 'at fault', 'last']} />
                <tbody>
                  {c.items.slice(0, listed).map((i) => (
                    <tr key={i.name} className="border-line border-t *:py-1 *:pr-3" data-caller={i.name}>
                      <td className="max-w-52 truncate">{i.name}</td>
                      <td>{count(i.requests)}</td>
                      <td>{percent(i.requests / Math.max(1, c.total), 1)}</td>
                      <td className={i.failed > 0 ? 'text-bad font-semibold' : undefined}>{count(i.failed)}</td>
                      <td>{count(i.wrong)}</td>
                      <td className="text-ink-2">
                        <Ago at={i.last} />
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
              {c.items.length > listed && <p className="text-ink-2 mb-3">and {c.items.length - listed} more</p>}
              <LineFigure
                title={c.step_ms >= 3_600_000 ? 'Requests an hour' : 'Requests a minute'}
                xName="UTC"
                xText={(x) => clock(x, c.step_ms >= 3_600_000)}
                lines={c.items.slice(0, drawn).map((i) => ({
                  name: i.name,
                  points: i.points
                    .filter((p) => Date.parse(p.at) + c.step_ms <= Date.parse(c.to)) // the running one is not over
                    .map((p) => ({ x: Date.parse(p.at), y: p.requests })),
                }))}
              />
            </>
          )
        }
      </Loaded>
    </div>
  )
}
