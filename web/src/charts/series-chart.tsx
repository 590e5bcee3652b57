import { useState } from 'react'
import {
  CartesianGrid,
  Line,
  LineChart,
  ReferenceArea,
  ReferenceLine,
  ResponsiveContainer,
  Tooltip,
  XAxis,
  YAxis,
} from 'recharts'

import type { Series } from '../api/client'
import { exact } from '../ui/format'
import { axis, box, timeAxis } from './frame'
import { Legend } from './legend'
import { linesOf, rowsOf, writeDrawn, type Drawn } from './series'

/** Up to where the axis goes at least, so that nothing at all is not drawn as if it were much. */
const leastTop: Partial<Record<Drawn, number>> = { error_rate: 0.01, refused: 1 }

interface Chart {
  series: Series
  drawn: Drawn
  main: string
  /** Charts with the same name share their crosshair. */
  syncId?: string
  log?: boolean
  /** Dragging over the chart chooses a span of time. */
  onZoom?: (from: number, to: number) => void
}

/** A signal over time by version, with the splits and alerts that happened, so that cause and effect line up. */
export function SeriesChart({ series, drawn, main, syncId, log = false, onZoom }: Chart) {
  const lines = linesOf(series, drawn, main)
  const write = writeDrawn(drawn)
  const [from, setFrom] = useState<number>()
  const [to, setTo] = useState<number>()
  const done = () => {
    if (onZoom && from !== undefined && to !== undefined && from !== to) onZoom(Math.min(from, to), Math.max(from, to))
    setFrom(undefined)
    setTo(undefined)
  }
  const at = (label: unknown) => (label === undefined ? undefined : Number(label))
  return (
    <figure className={onZoom ? 'cursor-crosshair select-none' : undefined}>
      <ResponsiveContainer width="100%" height={190}>
        <LineChart
          data={rowsOf(series, drawn)}
          margin={{ top: 8, right: 8, bottom: 0, left: 0 }}
          accessibilityLayer
          {...(syncId && { syncId })}
          {...(onZoom && {
            onMouseDown: (e) => setFrom(at(e.activeLabel)),
            onMouseMove: (e) => from !== undefined && setTo(at(e.activeLabel)),
            onMouseUp: done,
          })}
        >
          <CartesianGrid vertical={false} stroke="var(--line)" />
          <XAxis {...timeAxis} />
          <YAxis
            width={64}
            tickFormatter={(x: number) => write(x)}
            tickCount={4}
            domain={[0, (most: number) => Math.max(most, leastTop[drawn] ?? 0)]}
            {...(log && { scale: 'log', domain: ['auto', 'auto'], allowDataOverflow: true })}
            {...axis}
          />
          <Tooltip
            isAnimationActive={false}
            labelFormatter={(t) => exact(new Date(Number(t)))}
            formatter={(value, name) => [write(Number(value)), name]}
            contentStyle={box}
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
          {lines.map((l) => (
            <Line
              key={l.id}
              dataKey={l.id}
              name={l.name}
              dot={false}
              strokeWidth={2}
              isAnimationActive={false}
              connectNulls={false}
              stroke={l.stroke}
              strokeDasharray={l.dash}
            />
          ))}
          {from !== undefined && to !== undefined && (
            <ReferenceArea x1={Math.min(from, to)} x2={Math.max(from, to)} fill="var(--main-soft)" fillOpacity={0.6} />
          )}
        </LineChart>
      </ResponsiveContainer>
      <Legend lines={lines} />
    </figure>
  )
}

/** The same numbers as a table: the last steps of every line, or all of them. */
export function SeriesTable({ series, drawn, main, all = false }: Chart & { all?: boolean }) {
  const lines = linesOf(series, drawn, main)
  const write = writeDrawn(drawn)
  const rows = rowsOf(series, drawn)
  const data = (all ? rows : rows.slice(-12)).reverse()
  return (
    <table className="w-full text-right text-[13px]">
      <thead className="text-ink-3">
        <tr>
          <th className="text-left font-normal">time, UTC</th>
          {lines.map((l) => (
            <th key={l.id} className="font-normal">
              {l.name}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {data.map((row) => (
          <tr key={row.t} className="border-line border-t">
            <td className="text-left">{timeAxis.tickFormatter(row.t)}</td>
            {lines.map((l) => (
              <td key={l.id}>{row[l.id] === undefined ? '–' : write(row[l.id] ?? 0)}</td>
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  )
}
