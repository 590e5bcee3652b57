import type { Curve } from '../api/client'
import { LineFigure } from './line-figure'

/** One metric over the steps of one or several runs. */
export function Curves({ metric, curves }: { metric: string; curves: Curve[] }) {
  return (
    <LineFigure
      title={metric}
      xName="step"
      lines={curves.map((c) => ({
        name: c.run,
        note: c.thinned ? ' (thinned)' : undefined,
        points: c.points.map((p) => ({ x: p.step, y: p.value })),
      }))}
    />
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
