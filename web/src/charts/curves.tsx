import { CartesianGrid, Line, LineChart, ResponsiveContainer, Tooltip, XAxis, YAxis } from 'recharts'

import type { Curve } from '../api/client'
import { number } from '../ui/format'

const axis = { stroke: 'var(--ink-3)', fontSize: 12, tickLine: false, axisLine: false } as const
const strokes = ['var(--main)', 'var(--trial-line)', 'var(--ink)', 'var(--bad)', 'var(--ink-3)']
const dashes = ['', '6 3', '2 3', '8 3 2 3', '']

/** One metric over the steps of one or several runs, with a table behind it. */
export function Curves({ metric, curves }: { metric: string; curves: Curve[] }) {
  const rows = new Map<number, Record<string, number>>()
  for (const c of curves) {
    for (const p of c.points) {
      const row = rows.get(p.step) ?? { step: p.step }
      row[c.run] = p.value
      rows.set(p.step, row)
    }
  }
  const data = [...rows.values()].sort((a, b) => (a.step ?? 0) - (b.step ?? 0))
  return (
    <figure>
      <figcaption className="text-ink-2 mb-1 flex flex-wrap gap-x-4 text-[12.5px]">
        <b className="text-ink">{metric}</b>
        {curves.map((c, i) => (
          <span key={c.run} className="inline-flex items-center gap-1.5">
            <svg width="22" height="6" aria-hidden>
              <path
                d="M0 3H22"
                strokeWidth="2"
                stroke={strokes[i % strokes.length]}
                strokeDasharray={dashes[i % dashes.length]}
              />
            </svg>
            {c.run}
            {c.points.length > 0 && `, last ${number(c.points[c.points.length - 1]?.value ?? 0)}`}
            {c.thinned && ' (thinned)'}
          </span>
        ))}
      </figcaption>
      <ResponsiveContainer width="100%" height={180}>
        <LineChart data={data} margin={{ top: 6, right: 8, bottom: 0, left: 0 }} accessibilityLayer>
          <CartesianGrid vertical={false} stroke="var(--line)" />
          <XAxis dataKey="step" type="number" domain={['dataMin', 'dataMax']} {...axis} />
          <YAxis width={52} domain={['auto', 'auto']} tickFormatter={(x: number) => number(x)} {...axis} />
          <Tooltip
            isAnimationActive={false}
            labelFormatter={(s) => `step ${String(s)}`}
            formatter={(v, name) => [number(Number(v)), name]}
            contentStyle={{ background: 'var(--panel)', border: '1px solid var(--line-strong)', borderRadius: 6 }}
          />
          {curves.map((c, i) => (
            <Line
              key={c.run}
              dataKey={c.run}
              connectNulls
              dot={false}
              strokeWidth={2}
              isAnimationActive={false}
              stroke={strokes[i % strokes.length]}
              strokeDasharray={dashes[i % dashes.length]}
            />
          ))}
        </LineChart>
      </ResponsiveContainer>
      <details className="text-ink-2 text-[12.5px]">
        <summary className="cursor-pointer">as a table</summary>
        <table className="mt-1">
          <thead>
            <tr className="*:pr-4 *:text-left *:font-normal">
              <th>step</th>
              {curves.map((c) => (
                <th key={c.run}>{c.run}</th>
              ))}
            </tr>
          </thead>
          <tbody>
            {data.slice(-50).map((row) => (
              <tr key={row.step} className="*:pr-4">
                <td>{row.step}</td>
                {curves.map((c) => (
                  <td key={c.run}>{row[c.run] === undefined ? '–' : number(row[c.run] ?? 0)}</td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </details>
    </figure>
  )
}

/** All metrics of some runs, each in a chart of its own. */
export function CurveGrid({ curves }: { curves: Curve[] }) {
  const metrics = [...new Set(curves.map((c) => c.metric))]
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-5 lg:grid-cols-2">
      {metrics.map((m) => (
        <Curves key={m} metric={m} curves={curves.filter((c) => c.metric === m)} />
      ))}
    </div>
  )
}
