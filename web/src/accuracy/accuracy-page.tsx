import { useState } from 'react'
import { useParams } from 'react-router'

import type { Accuracy } from '../api/client'
import { useAccuracy } from '../api/judged'
import { useMay } from '../api/people'
import { useEndpoint } from '../api/queries'
import { LineFigure } from '../charts/line-figure'
import { clock } from '../ui/format'
import { Empty, Loaded, PageHead, Panel, To } from '../ui/parts'
import { SpanSwitch } from '../ui/span-switch'
import { windows, type Span } from '../ui/spans'
import { VersionAccuracy } from './version-accuracy'
import { Single } from './single'

/** How right an endpoint's versions are, as far as the truth is known. */
export function AccuracyPage() {
  const { endpoint = '' } = useParams()
  const [span, setSpan] = useState<Span>('6 h')
  const accuracy = useAccuracy(endpoint, windows[span])
  const project = useEndpoint(endpoint).data?.project ?? ''
  const mayInspect = useMay('inspect', project)
  return (
    <>
      <PageHead
        title={`How right is ${endpoint}?`}
        sub={
          <>
            predictions of <To to={`/endpoints/${endpoint}`}>{endpoint}</To> beside what turned out to be true, by the
            time of the prediction
          </>
        }
      >
        <SpanSwitch value={span} least="1 h" most="30 days" onChange={setSpan} />
      </PageHead>
      <Loaded query={accuracy}>
        {(a) =>
          a.items.length === 0 ? (
            <Panel>
              <Empty command={`innerladder outcomes ${endpoint} truth.csv`}>
                No truth is known of that time. Send it when it is there, with the ids of the requests or with keys and
                time:
              </Empty>
            </Panel>
          ) : (
            <>
              <div className="grid grid-cols-[minmax(0,1fr)] gap-5 lg:grid-cols-2">
                {a.items.map((v) => (
                  <VersionAccuracy key={`${v.version} ${v.output}`} of={v} />
                ))}
              </div>
              <OverTime of={a} />
              {mayInspect && <Single endpoint={endpoint} window={windows[span]} of={a} />}
            </>
          )
        }
      </Loaded>
    </>
  )
}

/** The first measure of each version over time, one figure for each output. */
function OverTime({ of }: { of: Accuracy }) {
  const outputs = [...new Set(of.items.map((v) => v.output))]
  const text = (x: number) => (of.step_ms >= 3_600_000 ? clock(x, true) : clock(x))
  return (
    <Panel title="Over time">
      {outputs.map((o) => {
        const versions = of.items.filter((v) => v.output === o)
        const measure = versions[0]?.measures[0]
        return (
          <LineFigure
            key={o}
            title={`${measure?.name ?? ''} of ${o}${measure?.unit ? `, ${measure.unit}` : ''}`}
            xName="UTC"
            xText={text}
            height={220}
            lines={versions.map((v) => ({
              name: v.version,
              points: v.points.map((p) => ({ x: Date.parse(p.at), y: p.value })),
            }))}
          />
        )
      })}
    </Panel>
  )
}
