import { Bar, BarChart, ReferenceLine, ResponsiveContainer, Tooltip, XAxis, YAxis } from 'recharts'

import type { Distribution as Compared } from '../api/client'
import { percent } from '../ui/format'
import { axis, box } from './frame'
import type { Sides } from './sides'
import { drawnSteps } from './steps'

type Distribution = Pick<Compared, 'edges' | 'levels' | 'incumbent' | 'candidate' | 'unit' | 'whole'>

/** Two distributions back to back: the incumbent to the left of the axis, the candidate to the right. */
export function BackToBack({ distribution, sides: [left, right] }: { distribution: Distribution; sides: Sides }) {
  const data = drawnSteps(distribution).map((s) => ({ ...s, left: -s.incumbent }))
  const most = Math.max(0.01, ...data.map((s) => Math.max(s.incumbent, s.candidate)))
  const unit = distribution.unit ? ` ${distribution.unit}` : ''
  return (
    <figure>
      <div className="grid grid-cols-[1fr_1fr] pl-[92px] text-[13px]">
        <span className="text-main pr-3 text-right font-semibold">{left}</span>
        <span className="text-trial pl-3 font-semibold">{right}</span>
      </div>
      <ResponsiveContainer width="100%" height={Math.max(120, data.length * 15 + 30)}>
        <BarChart
          data={data}
          layout="vertical"
          stackOffset="sign"
          barCategoryGap={1}
          margin={{ top: 4, right: 8, bottom: 0, left: 0 }}
          accessibilityLayer
        >
          <defs>
            <pattern id="hatch" width="7" height="7" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
              <rect width="7" height="7" fill="var(--trial-soft)" />
              <rect width="4" height="7" fill="var(--trial-line)" opacity="0.75" />
            </pattern>
          </defs>
          <XAxis
            type="number"
            domain={[-most, most]}
            tickFormatter={(x: number) => `${Math.abs(x * 100).toFixed(0)} %`}
            ticks={[-most, -most / 2, 0, most / 2, most]}
            {...axis}
          />
          <YAxis
            type="category"
            dataKey="name"
            width={92}
            tickFormatter={(s: string) => `${s}${unit}`}
            {...axis}
            interval={data.length > 14 ? 2 : 0}
          />
          <Tooltip
            isAnimationActive={false}
            cursor={{ fill: 'var(--line)', opacity: 0.5 }}
            labelFormatter={(s) => `${String(s)}${unit}`}
            formatter={(value, name) => [percent(Math.abs(Number(value)), 1), name]}
            contentStyle={box}
          />
          <Bar dataKey="left" name={left} stackId="both" fill="var(--main)" isAnimationActive={false} />
          <Bar
            dataKey="candidate"
            name={right}
            stackId="both"
            fill="url(#hatch)"
            stroke="var(--trial-line)"
            strokeWidth={0.5}
            isAnimationActive={false}
          />
          <ReferenceLine x={0} stroke="var(--line-strong)" />
        </BarChart>
      </ResponsiveContainer>
    </figure>
  )
}
