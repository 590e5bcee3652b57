import { useState } from 'react'

import type { EndpointNow } from '../api/client'
import { useSeries } from '../api/series'
import { EvidenceChart } from '../charts/evidence-chart'
import { SeriesChart, SeriesTable } from '../charts/series-chart'
import { measureText, type Measure } from '../charts/measure'
import { Switchboard } from '../ui/overlays'
import { Empty, Loaded, Panel, To } from '../ui/parts'
import { GuardList } from './guards'

const windows: Record<string, string> = { '2 min': '2m', '15 min': '15m', '1 h': '1h', '1 day': '24h' }

/** What the chart is called where it does not show latency. */
const titles: Partial<Record<Measure, string>> = { rate: 'Requests a second', error_rate: 'Errors' }

/** How the lanes of an endpoint fare, and how much speaks against its trial. */
export function Signals({ endpoint, main, now }: { endpoint: string; main: string; now: EndpointNow | undefined }) {
  const [measure, setMeasure] = useState<Measure>('p99_ms')
  const [window, setWindow] = useState('15 min')
  const [asTable, setAsTable] = useState(false)
  const series = useSeries(endpoint, windows[window] ?? '15m')
  const measures = Object.keys(measureText) as Measure[]
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-5 lg:grid-cols-[minmax(0,1fr)_minmax(0,1fr)]">
      <Panel
        title={`${titles[measure] ?? `Latency ${measureText[measure]}`}, last ${window}`}
        aside={<To to={`/endpoints/${endpoint}/signals`}>all signals</To>}
      >
        <div className="mb-2 flex flex-wrap justify-between gap-2">
          <Switchboard
            label="Signal"
            value={measureText[measure]}
            options={measures.map((m) => measureText[m])}
            onChange={(t) => setMeasure(measures.find((m) => measureText[m] === t) ?? 'p99_ms')}
          />
          <Switchboard label="Window" value={window} options={Object.keys(windows)} onChange={setWindow} />
        </div>
        <Loaded query={series}>
          {(s) =>
            s.lanes.length === 0 ? (
              <Empty>Nobody has called in this time.</Empty>
            ) : (
              <>
                {asTable ? (
                  <SeriesTable series={s} drawn={measure} main={main} />
                ) : (
                  <SeriesChart series={s} drawn={measure} main={main} />
                )}
                <button
                  type="button"
                  className="text-ink-2 mt-1 cursor-pointer text-[12.5px] underline underline-offset-3"
                  onClick={() => setAsTable(!asTable)}
                >
                  {asTable ? 'show as a chart' : 'show as a table'}
                </button>
              </>
            )
          }
        </Loaded>
      </Panel>
      <Panel title={now && now.guards.length > 0 ? 'Evidence against the trial' : 'Evidence against the last trial'}>
        <Loaded query={series}>
          {(s) => (
            <div className="grid gap-4">
              {s.guards.length > 0 && <EvidenceChart guards={s.guards} />}
              {now && now.guards.length > 0 && <GuardList now={now} />}
              {s.guards.length === 0 && !now?.guards.length && (
                <Empty>
                  Nothing was on trial in this time. Guards watch over every trial lane from its first request on.
                </Empty>
              )}
            </div>
          )}
        </Loaded>
      </Panel>
    </div>
  )
}
