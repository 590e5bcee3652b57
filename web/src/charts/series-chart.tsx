import { CartesianGrid, Line, LineChart, ResponsiveContainer, Tooltip, XAxis, YAxis } from 'recharts'

import type { Series } from '../api/client'
import { exact } from '../ui/format'
import { marksOf, nearest, spanOf, useDrag, valueWidth } from './aligned'
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
  const drag = useDrag(onZoom)
  return (
    <figure className={onZoom ? 'cursor-crosshair select-none' : undefined}>
      <ResponsiveContainer width="100%" height={190}>
        <LineChart
          data={rowsOf(series, drawn)}
          margin={{ top: 8, right: 8, bottom: 0, left: 0 }}
          accessibilityLayer
          {...(syncId && { syncId, syncMethod: nearest })}
          {...drag.listens}
        >
          <CartesianGrid vertical={false} stroke="var(--line)" />
          <XAxis {...timeAxis} {...(syncId && { domain: spanOf(series), allowDataOverflow: true })} />
          <YAxis
            width={valueWidth}
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
          {marksOf(series)}
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
          {drag.area}
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
