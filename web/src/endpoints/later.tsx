import { useCustomSignals } from '../api/custom'
import { useAccuracy } from '../api/judged'
import { LineFigure } from '../charts/line-figure'
import { CustomFigure } from '../custom/custom-figure'
import { clock } from '../ui/format'
import { Panel, To } from '../ui/parts'

/** What was reported of the endpoint's own signals in the same time. */
export function CustomOver({ endpoint, seconds, shown }: { endpoint: string; seconds: number; shown: boolean }) {
  const signals = useCustomSignals(endpoint, `${seconds}s`).data
  const some = signals?.items.filter((c) => c.versions.length > 0) ?? []
  if (!shown || !signals || some.length === 0) return null
  return (
    <Panel title="Custom signals" aside={<To to={`/endpoints/${endpoint}/custom`}>all about them</To>}>
      {some.map((c) => (
        <CustomFigure key={c.name} of={c} stepMs={signals.step_ms} />
      ))}
    </Panel>
  )
}

/** How right the versions were in the same time, where the truth is known. */
export function AccuracyOver({ endpoint, seconds, shown }: { endpoint: string; seconds: number; shown: boolean }) {
  const a = useAccuracy(endpoint, `${seconds}s`).data
  const first = a?.items[0]
  if (!shown || !a || !first) return null
  return (
    <Panel title="Accuracy" aside={<To to={`/endpoints/${endpoint}/accuracy`}>all about it</To>}>
      <LineFigure
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
