import {
  CartesianGrid,
  ReferenceLine,
  ResponsiveContainer,
  Scatter,
  ScatterChart,
  Tooltip,
  XAxis,
  YAxis,
} from 'recharts'

import { number } from '../ui/format'
import { axis, box } from './frame'

/** Predictions over what turned out to be true: what lies on the line was right. */
export function TruthScatter({
  points,
  unit,
}: {
  points: { truth: number; predicted: number; version: string }[]
  unit: string
}) {
  const all = points.flatMap((p) => [p.truth, p.predicted])
  const ends = [Math.min(...all), Math.max(...all)] as const
  const versions = [...new Set(points.map((p) => p.version))]
  const fills = ['var(--main)', 'var(--trial-line)', 'var(--ink-2)']
  const named = (of: string) => (unit ? `${of}, ${unit}` : of)
  return (
    <figure>
      <figcaption className="text-ink-2 mb-1 flex gap-4 text-[12.5px]">
        {versions.map((v, i) => (
          <span key={v}>
            <span aria-hidden style={{ color: fills[i % fills.length] }}>
              {i === 0 ? '●' : '▲'}
            </span>{' '}
            {v}
          </span>
        ))}
        <span>what lies on the line was right</span>
      </figcaption>
      <ResponsiveContainer width="100%" height={260}>
        <ScatterChart margin={{ top: 6, right: 12, bottom: 18, left: 6 }} accessibilityLayer>
          <CartesianGrid stroke="var(--line)" />
          <XAxis
            type="number"
            dataKey="truth"
            name="truth"
            domain={ends}
            tickFormatter={(x: number) => number(x)}
            label={{ value: named('truth'), position: 'insideBottom', offset: -10, fontSize: 12, fill: 'var(--ink-2)' }}
            {...axis}
          />
          <YAxis
            type="number"
            dataKey="predicted"
            name="predicted"
            domain={ends}
            width={58}
            tickFormatter={(x: number) => number(x)}
            label={{
              value: named('predicted'),
              angle: -90,
              position: 'insideLeft',
              fontSize: 12,
              fill: 'var(--ink-2)',
            }}
            {...axis}
          />
          <Tooltip isAnimationActive={false} formatter={(v, name) => [number(Number(v)), name]} contentStyle={box} />
          <ReferenceLine
            segment={[
              { x: ends[0], y: ends[0] },
              { x: ends[1], y: ends[1] },
            ]}
            stroke="var(--ink-3)"
            strokeDasharray="4 3"
          />
          {versions.map((v, i) => (
            <Scatter
              key={v}
              name={v}
              data={points.filter((p) => p.version === v)}
              fill={fills[i % fills.length]}
              fillOpacity={0.6}
              shape={i === 0 ? 'circle' : 'triangle'}
              isAnimationActive={false}
            />
          ))}
        </ScatterChart>
      </ResponsiveContainer>
    </figure>
  )
}
