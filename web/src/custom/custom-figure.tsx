import type { CustomSignal } from '../api/client'
import type { Over } from '../charts/aligned'
import { LineFigure } from '../charts/line-figure'
import { clock } from '../ui/format'

/** The mean of a signal over time, a line for each version. */
export function CustomFigure({ of: c, stepMs, over }: { of: CustomSignal; stepMs: number; over?: Over }) {
  return (
    <LineFigure
      {...(over && { over })}
      title={`Mean of ${c.name}${c.unit ? `, ${c.unit}` : ''}`}
      xName="UTC"
      xText={(x) => clock(x, stepMs >= 3_600_000)}
      lines={c.versions.map((v) => ({
        name: v.version,
        points: v.points.map((p) => ({ x: Date.parse(p.at), y: p.mean })),
      }))}
    />
  )
}
