import { CartesianGrid, Line, LineChart, ReferenceLine, ResponsiveContainer, Tooltip, XAxis, YAxis } from 'recharts'

import type { Series } from '../api/client'
import { exact, percent, signalText } from '../ui/format'
import { axis, box, timeAxis } from './frame'
import { Legend } from './legend'

const strokes = ['var(--ink)', 'var(--ink-3)', 'var(--trial-line)', 'var(--main)']
const dashes = [undefined, '7 3', '2 3', '9 3 2 3', '1 2', '12 4']

/**
 * The evidence against a trial, as a share of what makes its guards fire: of the last split, or of all that is given.
 */
export function EvidenceChart({ guards, all = false }: { guards: Series['guards']; all?: boolean }) {
  const split = guards.at(-1)?.split
  const last = all ? guards : guards.filter((g) => g.split === split)
  const nameOf = (g: (typeof last)[number]) => `${signalText(g.signal)}, @${g.version.split('@')[1] ?? ''}`
  const lines = [...new Set(last.map(nameOf))].map((name, i) => ({
    name,
    stroke: strokes[i % strokes.length] ?? 'var(--ink)',
    dash: dashes[i % dashes.length],
  }))
  const byTime = new Map<number, Record<string, number>>()
  for (const g of last) {
    const t = new Date(g.at).getTime()
    const row = byTime.get(t) ?? { t }
    row[nameOf(g)] = Math.min(1.2, g.progress)
    byTime.set(t, row)
  }
  return (
    <figure>
      <ResponsiveContainer width="100%" height={190}>
        <LineChart data={[...byTime.values()]} margin={{ top: 8, right: 8, bottom: 0, left: 0 }} accessibilityLayer>
          <CartesianGrid vertical={false} stroke="var(--line)" />
          <XAxis {...timeAxis} />
          <YAxis
            width={44}
            domain={[0, 1.2]}
            ticks={[0, 0.5, 1]}
            tickFormatter={(x: number) => percent(x, 0)}
            {...axis}
          />
          <Tooltip
            isAnimationActive={false}
            labelFormatter={(t) => exact(new Date(Number(t)))}
            formatter={(value, name) => [`${Math.round(Number(value) * 100)} %`, name]}
            contentStyle={box}
          />
          <ReferenceLine
            y={1}
            stroke="var(--bad)"
            strokeWidth={1.5}
            strokeDasharray="6 4"
            label={{ value: 'fires here', position: 'insideTopLeft', fontSize: 12, fill: 'var(--bad)' }}
          />
          {lines.map((l) => (
            <Line
              key={l.name}
              dataKey={l.name}
              dot={byTime.size < 3 && { strokeDasharray: '' }}
              strokeWidth={2}
              isAnimationActive={false}
              stroke={l.stroke}
              strokeDasharray={l.dash}
            />
          ))}
        </LineChart>
      </ResponsiveContainer>
      <Legend lines={lines} after={!all && <span>split #{split}</span>} />
    </figure>
  )
}
