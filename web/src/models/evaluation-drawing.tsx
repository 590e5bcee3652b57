import { Bar, BarChart, CartesianGrid, Line, LineChart, ResponsiveContainer, Tooltip, XAxis, YAxis } from 'recharts'
import type { Evaluation } from '../api/client'
import { axis, box } from '../charts/frame'
import { count, number } from '../ui/format'
import { BesideAnother } from './beside-another'
import { Classes, Groups, JudgedBy, Quantiles, Segments, WorstRows } from './evaluation-rows'
import { Behind, Numbers } from './evidence-drawing'

/** A colour of the theme, so many per cent of it. */
const mixed = (colour: string, percent: number) =>
  `color-mix(in srgb, var(${colour}) ${Math.round(percent)}%, transparent)`

/** Ticks have as many digits as tell them apart. */
const tickOf = (values: number[]) => {
  const step = (Math.max(...values) - Math.min(...values)) / 10
  const digits = step > 0 ? Math.min(6, Math.max(0, -Math.floor(Math.log10(step)))) : 2
  return (x: number) => x.toFixed(digits).replace('-', '−')
}

export function EvaluationDrawing({ evaluation: e }: { evaluation: Evaluation }) {
  return (
    <div className="grid gap-x-8 gap-y-4 md:grid-cols-2">
      <Numbers values={e.metrics} limits={e.limits} bounds={e.bounds} />
      {e.residuals && <Residuals residuals={e.residuals} />}
      {e.confusion && <ConfusionTable confusion={e.confusion} />}
      {e.classes && e.classes.length > 0 && <Classes classes={e.classes} />}
      {e.residual_quantiles && e.residual_quantiles.length > 0 && <Quantiles of={e.residual_quantiles} />}
      {e.curves?.map((c) => (
        <figure key={c.name}>
          <figcaption className="text-ink-2 mb-1 text-[12.5px]">
            <b className="text-ink">{c.name}</b>: {c.y_label ?? 'y'} over {c.x_label ?? 'x'}
          </figcaption>
          <ResponsiveContainer width="100%" height={180}>
            <LineChart
              data={c.x.map((x, i) => ({ x, y: c.y[i] }))}
              margin={{ top: 6, right: 8, bottom: 0, left: 0 }}
              accessibilityLayer
            >
              <CartesianGrid vertical={false} stroke="var(--line)" />
              <XAxis dataKey="x" type="number" domain={['dataMin', 'dataMax']} tickFormatter={tickOf(c.x)} {...axis} />
              <YAxis width={46} domain={['auto', 'auto']} tickFormatter={(x: number) => number(x)} {...axis} />
              <Tooltip
                isAnimationActive={false}
                formatter={(v) => number(Number(v))}
                labelFormatter={(x) => `${c.x_label ?? 'x'} ${number(Number(x))}`}
                contentStyle={box}
              />
              <Line
                dataKey="y"
                name={c.y_label ?? 'y'}
                dot={false}
                strokeWidth={2}
                isAnimationActive={false}
                stroke="var(--main)"
              />
            </LineChart>
          </ResponsiveContainer>
          <Behind head={[c.x_label ?? 'x', c.y_label ?? 'y']} rows={c.x.map((x, i) => [x, c.y[i] ?? 0])} />
        </figure>
      ))}
      {e.groups && e.groups.length > 0 && <Groups groups={e.groups} />}
      {e.segments && e.segments.length > 0 && <Segments segments={e.segments} />}
      {e.worst && e.worst.length > 0 && <WorstRows rows={e.worst} />}
      {e.against && <BesideAnother against={e.against} />}
      {e.judged && <JudgedBy judged={e.judged} />}
    </div>
  )
}

function Residuals({ residuals: h }: { residuals: NonNullable<Evaluation['residuals']> }) {
  const rows = h.counts.map((n, i) => ({ n, at: ((h.edges[i] ?? 0) + (h.edges[i + 1] ?? 0)) / 2 }))
  return (
    <figure>
      <figcaption className="text-ink-2 mb-1 text-[12.5px]">
        <b className="text-ink">residuals</b>: rows by prediction less truth{h.unit && `, ${h.unit}`}
      </figcaption>
      <ResponsiveContainer width="100%" height={180}>
        <BarChart data={rows} barCategoryGap={1} margin={{ top: 6, right: 8, bottom: 0, left: 0 }} accessibilityLayer>
          <CartesianGrid vertical={false} stroke="var(--line)" />
          <XAxis dataKey="at" tickFormatter={tickOf(h.edges)} {...axis} />
          <YAxis width={46} tickFormatter={(x: number) => count(x)} {...axis} />
          <Tooltip
            isAnimationActive={false}
            cursor={{ fill: 'var(--line)', opacity: 0.4 }}
            formatter={(v) => [count(Number(v)), 'rows']}
            labelFormatter={(x) => `around ${number(Number(x))}${h.unit ? ` ${h.unit}` : ''}`}
            contentStyle={box}
          />
          <Bar dataKey="n" fill="var(--main)" isAnimationActive={false} />
        </BarChart>
      </ResponsiveContainer>
      <Behind
        head={['from', 'to', 'rows']}
        rows={h.counts.map((n, i) => [h.edges[i] ?? 0, h.edges[i + 1] ?? 0, count(n)])}
      />
    </figure>
  )
}

function ConfusionTable({ confusion: c }: { confusion: NonNullable<Evaluation['confusion']> }) {
  return (
    <figure className="overflow-x-auto">
      <figcaption className="text-ink-2 mb-1 text-[12.5px]">
        <b className="text-ink">confusion</b>: true class down, predicted class across; each row's share is shaded
      </figcaption>
      <table className="text-right text-[13px]">
        <thead>
          <tr>
            <th className="relative">
              <span className="sr-only">class</span>
            </th>
            {c.labels.map((l) => (
              <th key={l} className="text-ink-2 px-2 py-1 font-normal">
                {l}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {c.counts.map((row, i) => {
            const sum = row.reduce((a, b) => a + b, 0)
            return (
              <tr key={c.labels[i]}>
                <th className="text-ink-2 py-1 pr-2 text-left font-normal">{c.labels[i]}</th>
                {row.map((n, j) => {
                  const part = sum > 0 ? n / sum : 0
                  return (
                    <td
                      key={j}
                      className="border-panel border-2 px-3 py-1.5"
                      style={{
                        background: mixed(i === j ? '--main' : '--bad', part * 60),
                      }}
                    >
                      {count(n)}
                    </td>
                  )
                })}
              </tr>
            )
          })}
        </tbody>
      </table>
    </figure>
  )
}
