import { CartesianGrid, Line, LineChart, ReferenceLine, ResponsiveContainer, Tooltip, XAxis, YAxis } from 'recharts'

import type { Series } from '../api/client'
import { exact, percent, words } from '../ui/format'

const time = (t: number) => new Date(t).toISOString().slice(11, 19)
const axis = { stroke: 'var(--ink-3)', fontSize: 12, tickLine: false, axisLine: false } as const
const strokes = ['var(--ink)', 'var(--ink-3)', 'var(--trial-line)', 'var(--main)']
const dashes = [undefined, '7 3', '2 3', '9 3 2 3', '1 2', '12 4']

/**
 * The evidence against a trial, as a share of what makes its guards fire: of the last split, or of all that is given.
 */
export function EvidenceChart({ guards, all = false }: { guards: Series['guards']; all?: boolean }) {
  const split = guards.at(-1)?.split
  const last = all ? guards : guards.filter((g) => g.split === split)
  const signals = [...new Set(last.map((g) => `${words(g.signal)}, @${g.version.split('@')[1] ?? ''}`))]
  const byTime = new Map<number, Record<string, number>>()
  for (const g of last) {
    const t = new Date(g.at).getTime()
    const row = byTime.get(t) ?? { t }
    row[`${words(g.signal)}, @${g.version.split('@')[1] ?? ''}`] = Math.min(1.2, g.progress)
    byTime.set(t, row)
  }
  return (
    <figure>
      <ResponsiveContainer width="100%" height={190}>
        <LineChart data={[...byTime.values()]} margin={{ top: 8, right: 8, bottom: 0, left: 0 }} accessibilityLayer>
          <CartesianGrid vertical={false} stroke="var(--line)" />
          <XAxis
            dataKey="t"
            type="number"
            domain={['dataMin', 'dataMax']}
            tickFormatter={time}
            minTickGap={60}
            {...axis}
          />
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
            contentStyle={{ background: 'var(--panel)', border: '1px solid var(--line-strong)', borderRadius: 6 }}
          />
          <ReferenceLine
            y={1}
            stroke="var(--bad)"
            strokeWidth={1.5}
            strokeDasharray="6 4"
            label={{ value: 'fires here', position: 'insideTopLeft', fontSize: 12, fill: 'var(--bad)' }}
          />
          {signals.map((s, i) => (
            <Line
              key={s}
              dataKey={s}
              dot={byTime.size < 3}
              strokeWidth={2}
              isAnimationActive={false}
              stroke={strokes[i % strokes.length]}
              strokeDasharray={dashes[i % dashes.length]}
            />
          ))}
        </LineChart>
      </ResponsiveContainer>
      <figcaption className="text-ink-2 mt-1 flex flex-wrap gap-x-4 text-[12.5px]">
        {signals.map((s, i) => (
          <span key={s} className="inline-flex items-center gap-1.5">
            <svg width="22" height="6" aria-hidden>
              <path
                d="M0 3H22"
                strokeWidth="2"
                stroke={strokes[i % strokes.length]}
                strokeDasharray={dashes[i % dashes.length]}
              />
            </svg>
            {s}
          </span>
        ))}
        {!all && <span>split #{split}</span>}
      </figcaption>
    </figure>
  )
}
