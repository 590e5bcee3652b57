import { CartesianGrid, Line, LineChart, ReferenceLine, ResponsiveContainer, Tooltip, XAxis, YAxis } from 'recharts'

import type { Series } from '../api/client'
import { exact, short } from '../ui/format'
import { write, type Measure } from './measure'

const time = (t: number) => new Date(t).toISOString().slice(11, 19)
const axis = { stroke: 'var(--ink-3)', fontSize: 12, tickLine: false, axisLine: false } as const

/** The lines of a series: one for each version, drawn as main (solid) or trial (dashed) at the time. */
function lines(series: Series) {
  return series.lanes.filter((l) => l.lane !== 'pinned').map((l) => ({ ...l, id: `${l.lane} ${l.version}` }))
}

/** One row for each step at the moment it ended, so that an effect never stands before its cause; a missing step is a gap. */
function rows(series: Series, measure: Measure) {
  const byTime = new Map<number, Record<string, number>>()
  // What came before the first request says nothing and only squeezes the rest.
  const first = Math.min(...lines(series).map((l) => new Date(l.points[0]?.at ?? series.to).getTime()))
  const from = Math.ceil(Math.max(first, new Date(series.from).getTime()) / series.step_ms) * series.step_ms
  for (let t = from; t < new Date(series.to).getTime() - series.step_ms; t += series.step_ms)
    byTime.set(t, { t: t + series.step_ms })
  for (const l of lines(series)) {
    for (const p of l.points) {
      const row = byTime.get(new Date(p.at).getTime())
      if (row) row[l.id] = p[measure]
    }
  }
  return [...byTime.values()]
}

const shades = ['var(--main)', 'var(--ink-3)', 'var(--ink-2)', 'var(--line-strong)']

/** A signal over time by version, with the splits and alerts that happened, so that cause and effect line up. */
export function LatencyChart({ series, measure, main }: { series: Series; measure: Measure; main: string }) {
  const drawn = lines(series)
  const others = drawn.filter((l) => l.lane === 'main' && l.version !== main)
  const look = (l: { lane: string; version: string }) =>
    l.lane === 'trial'
      ? { stroke: 'var(--trial-line)', strokeDasharray: '5 3' }
      : l.lane === 'shadow'
        ? { stroke: 'var(--ink-3)', strokeDasharray: '1 3' }
        : {
            stroke: l.version === main ? shades[0] : shades[1 + (others.findIndex((o) => o.version === l.version) % 3)],
          }
  return (
    <figure>
      <ResponsiveContainer width="100%" height={190}>
        <LineChart data={rows(series, measure)} margin={{ top: 8, right: 8, bottom: 0, left: 0 }} accessibilityLayer>
          <CartesianGrid vertical={false} stroke="var(--line)" />
          <XAxis
            dataKey="t"
            type="number"
            domain={['dataMin', 'dataMax']}
            tickFormatter={time}
            minTickGap={60}
            {...axis}
          />
          <YAxis width={64} tickFormatter={(x: number) => write[measure](x)} tickCount={4} {...axis} />
          <Tooltip
            isAnimationActive={false}
            labelFormatter={(t) => exact(new Date(Number(t)))}
            formatter={(value, name) => [write[measure](Number(value)), name]}
            contentStyle={{ background: 'var(--panel)', border: '1px solid var(--line-strong)', borderRadius: 6 }}
          />
          {series.splits.map((s) => (
            <ReferenceLine
              key={s.number}
              x={new Date(s.made_at).getTime()}
              stroke="var(--ink-3)"
              strokeDasharray="2 3"
              label={{
                value: `#${s.number}`,
                position: 'insideTopLeft',
                dy: (s.number % 3) * 12,
                fontSize: 11,
                fill: 'var(--ink-2)',
              }}
            />
          ))}
          {series.alerts.map((a) => (
            <ReferenceLine
              key={a.id}
              x={new Date(a.raised_at).getTime()}
              stroke="var(--bad)"
              label={{ value: `✕ ${a.id}`, position: 'insideBottomLeft', fontSize: 11, fill: 'var(--bad)' }}
            />
          ))}
          {drawn.map((l) => (
            <Line
              key={l.id}
              dataKey={l.id}
              name={`${short(l.version)} ${l.lane}`}
              dot={false}
              strokeWidth={2}
              isAnimationActive={false}
              connectNulls={false}
              {...look(l)}
            />
          ))}
        </LineChart>
      </ResponsiveContainer>
      <figcaption className="text-ink-2 mt-1 flex flex-wrap gap-x-4 text-[12.5px]">
        {drawn.map((l) => (
          <span key={l.id} className="inline-flex items-center gap-1.5">
            <svg width="22" height="6" aria-hidden>
              <path d="M0 3H22" strokeWidth="2" {...look(l)} />
            </svg>
            {short(l.version)} {l.lane}
          </span>
        ))}
      </figcaption>
    </figure>
  )
}

/** The same numbers as a table: the last steps of every line. */
export function LatencyTable({ series, measure }: { series: Series; measure: Measure }) {
  const drawn = lines(series)
  const data = rows(series, measure).slice(-12).reverse()
  return (
    <table className="w-full text-right text-[13px]">
      <thead className="text-ink-3">
        <tr>
          <th className="text-left font-normal">time, UTC</th>
          {drawn.map((l) => (
            <th key={l.id} className="font-normal">
              {short(l.version)} {l.lane}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {data.map((row) => (
          <tr key={row['t']} className="border-line border-t">
            <td className="text-left">{time(row['t'] ?? 0)}</td>
            {drawn.map((l) => (
              <td key={l.id}>{row[l.id] === undefined ? '–' : write[measure](row[l.id] ?? 0)}</td>
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  )
}
