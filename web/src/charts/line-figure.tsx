import { CartesianGrid, Line, LineChart, ResponsiveContainer, Tooltip, XAxis, YAxis } from 'recharts'

import { number } from '../ui/format'
import { marksOf, nearest, spanOf, useDrag, valueWidth, type Over } from './aligned'
import { axis, box } from './frame'
import { Legend } from './legend'

const strokes = ['var(--main)', 'var(--trial-line)', 'var(--ink)', 'var(--bad)', 'var(--ink-3)']
const dashes = ['', '6 3', '2 3', '8 3 2 3', '']

/** One line of a figure; note stands behind its name. */
export interface FigureLine {
  name: string
  note?: string
  points: { x: number; y: number }[]
}

/** What the last value of a line is. */
function beside(l: FigureLine | undefined) {
  const last = l?.points.at(-1)
  return (
    <>
      {last && `, last ${number(last.y)}`}
      {l?.note}
    </>
  )
}

/** Some of the places where there is a value, so that no tick has the name of another. */
function ticksOf(places: number[]): number[] {
  const every = Math.ceil(places.length / 7)
  return places.filter((_, i) => i % every === 0)
}

/** Lines over the same axis, with a table behind them. */
export function LineFigure({
  title,
  lines,
  xName,
  xText,
  height = 180,
  over,
}: {
  title: string
  lines: FigureLine[]
  xName: string
  xText?: (x: number) => string
  height?: number
  /** What it shares with the charts above and below it; its x are moments then. */
  over?: Over
}) {
  const text = xText ?? String
  const drag = useDrag(over?.zoom)
  const rows = new Map<number, Record<string, number>>()
  for (const l of lines) {
    for (const p of l.points) {
      const row = rows.get(p.x) ?? { x: p.x }
      row[l.name] = p.y
      rows.set(p.x, row)
    }
  }
  const data = [...rows.values()].sort((a, b) => (a.x ?? 0) - (b.x ?? 0))
  const drawn = lines.map((l, i) => ({
    name: l.name,
    stroke: strokes[i % strokes.length] ?? 'var(--main)',
    dash: dashes[i % dashes.length],
  }))
  return (
    <figure className={over ? 'cursor-crosshair select-none' : undefined}>
      <Legend lines={drawn} beside={(_, i) => beside(lines[i])}>
        <b className="text-ink">{title}</b>
      </Legend>
      <ResponsiveContainer width="100%" height={height}>
        <LineChart
          data={data}
          margin={{ top: 6, right: 8, bottom: 0, left: 0 }}
          accessibilityLayer
          {...(over && { syncId: over.series.endpoint, syncMethod: nearest })}
          {...drag.listens}
        >
          <CartesianGrid vertical={false} stroke="var(--line)" />
          <XAxis
            dataKey="x"
            type="number"
            domain={over ? spanOf(over.series) : ['dataMin', 'dataMax']}
            allowDataOverflow={over !== undefined}
            ticks={xText && ticksOf(data.map((row) => row.x ?? 0))}
            tickFormatter={text}
            {...axis}
          />
          <YAxis
            width={over ? valueWidth : 52}
            domain={['auto', 'auto']}
            tickFormatter={(x: number) => number(x)}
            {...axis}
          />
          <Tooltip
            isAnimationActive={false}
            labelFormatter={(x) => `${xName} ${text(Number(x))}`}
            formatter={(v, name) => [number(Number(v)), name]}
            contentStyle={box}
          />
          {over && marksOf(over.series)}
          {drawn.map((l, i) => (
            <Line
              key={l.name}
              dataKey={l.name}
              connectNulls
              dot={lines[i]?.points.length === 1 && { strokeDasharray: '' }}
              strokeWidth={2}
              isAnimationActive={false}
              stroke={l.stroke}
              strokeDasharray={l.dash}
            />
          ))}
          {drag.area}
        </LineChart>
      </ResponsiveContainer>
      <details className="text-ink-2 text-[12.5px]">
        <summary className="cursor-pointer">as a table</summary>
        <table className="mt-1">
          <thead>
            <tr className="*:pr-4 *:text-left *:font-normal">
              <th>{xName}</th>
              {lines.map((l) => (
                <th key={l.name}>{l.name}</th>
              ))}
            </tr>
          </thead>
          <tbody>
            {data.slice(-50).map((row) => (
              <tr key={row.x} className="*:pr-4">
                <td>{text(row.x ?? 0)}</td>
                {lines.map((l) => (
                  <td key={l.name}>{row[l.name] === undefined ? '–' : number(row[l.name] ?? 0)}</td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </details>
    </figure>
  )
}
