import { useCustomSignals } from '../api/custom'
import { useAccuracy, useDrift } from '../api/judged'
import type { Over } from '../charts/aligned'
import { LineFigure } from '../charts/line-figure'
import { CustomFigure } from '../custom/custom-figure'
import { clock } from '../ui/format'
import { Panel, To } from '../ui/parts'

/** What is looked at, and until when; now where that is not said. */
interface Span {
  endpoint: string
  window: string
  until: string | undefined
  /** What its chart shares with those of the traffic. */
  over?: Over
}

/** How many columns are drawn, of those that moved furthest. */
const mostDrawn = 4

/** How far the columns that moved furthest were from the reference profile in the same time. */
export function DriftOver({ endpoint, window, until, over }: Span) {
  const d = useDrift(endpoint, { window, against: 'reference', ...(until && { until }) }).data
  const columns = d?.items.filter((c) => c.points.length > 0).slice(0, mostDrawn) ?? []
  if (!d || columns.length === 0) return null
  return (
    <Panel title="Drift" aside={<To to={`/endpoints/${endpoint}/drift`}>all columns</To>}>
      <LineFigure
        {...(over && { over })}
        title="Effect against the reference profile (PSI less chance)"
        xName="UTC"
        xText={(x) => clock(x, d.step_ms >= 3_600_000)}
        lines={columns.map((c) => ({
          name: c.side === 'output' ? `${c.column} (predicted)` : c.column,
          points: c.points.map((p) => ({ x: Date.parse(p.at), y: p.effect })),
        }))}
      />
    </Panel>
  )
}

/** What was reported of the endpoint's own signals in the same time. */
export function CustomOver({ endpoint, window, until, over }: Span) {
  const signals = useCustomSignals(endpoint, window, until).data
  const some = signals?.items.filter((c) => c.versions.length > 0) ?? []
  if (!signals || some.length === 0) return null
  return (
    <Panel title="Custom signals" aside={<To to={`/endpoints/${endpoint}/custom`}>all about them</To>}>
      {some.map((c) => (
        <CustomFigure key={c.name} of={c} stepMs={signals.step_ms} {...(over && { over })} />
      ))}
    </Panel>
  )
}

/** How right the versions were in the same time, where the truth is known. */
export function AccuracyOver({ endpoint, window, until, over }: Span) {
  const a = useAccuracy(endpoint, window, until).data
  const first = a?.items[0]
  if (!a || !first) return null
  return (
    <Panel title="Accuracy" aside={<To to={`/endpoints/${endpoint}/accuracy`}>all about it</To>}>
      <LineFigure
        {...(over && { over })}
        title={`${first.measures[0]?.name ?? ''} of ${first.output}`}
        xName="UTC"
        xText={(x) => clock(x, a.step_ms >= 3_600_000)}
        lines={a.items
          .filter((v) => v.output === first.output)
          .map((v) => ({ name: v.version, points: v.points.map((p) => ({ x: Date.parse(p.at), y: p.value })) }))}
      />
    </Panel>
  )
}
