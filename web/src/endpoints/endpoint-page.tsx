import { useState } from 'react'
import { Link, useParams } from 'react-router'

import type { Endpoint, EndpointNow } from '../api/client'
import { useLadder } from '../api/ladder'
import { useMay } from '../api/people'
import { useEndpoint, useEndpointNow, useSeries } from '../api/queries'
import { EvidenceChart } from '../charts/evidence-chart'
import { LatencyChart, LatencyTable } from '../charts/latency-chart'
import { measureText, type Measure } from '../charts/measure'
import { short } from '../ui/format'
import { FormSheet } from '../ui/form'
import { Switchboard } from '../ui/overlays'
import { Ago, Button, Empty, Loaded, PageHead, Panel } from '../ui/parts'
import { ActivityPanel } from '../activity/activity-list'
import { EditEndpoint, RemoveEndpoint } from '../environments/endpoint-form'
import { CallersPanel } from './callers-panel'
import { BackSheet, SplitSheet } from './change-split'
import { ContractPanel } from './contract-panel'
import { GuardList } from './guards'
import { LaneBand } from './lane-band'
import { SplitHistory } from './split-history'

export function EndpointPage() {
  const { endpoint: name = '' } = useParams()
  const endpoint = useEndpoint(name)
  const now = useEndpointNow(name)
  return <Loaded query={endpoint}>{(e) => <EndpointView endpoint={e} now={now} />}</Loaded>
}

function EndpointView({ endpoint: e, now }: { endpoint: Endpoint; now: EndpointNow | undefined }) {
  const mayRoute = useMay('route', e.project)
  const split = e.split
  const main = split?.lanes.find((l) => l.kind === 'main')
  const trials = split?.lanes.filter((l) => l.kind === 'trial') ?? []
  const rate = now?.lanes.reduce((sum, l) => sum + l.rate, 0) ?? 0
  return (
    <>
      <PageHead
        title={e.name}
        sub={
          <>
            {e.model} in {e.environment}
            {split && (
              <>
                {' '}
                · split #{split.number}, <Ago at={split.made_at} /> by {split.author} · {rate.toFixed(0)} requests/s
              </>
            )}
            {e.description && ` · ${e.description}`} · project {e.project}
          </>
        }
      >
        {split && main && trials[0] && (
          <Link to={`/endpoints/${e.name}/compare?incumbent=${main.version}&candidate=${trials[0].version}`}>
            <Button tabIndex={-1}>
              Compare {short(main.version)} and {short(trials[0].version)}
            </Button>
          </Link>
        )}
        {mayRoute && <EditSheet endpoint={e} />}
        {mayRoute && <SplitSheet endpoint={e} />}
        {mayRoute && split && split.number > 1 && <BackSheet endpoint={e} />}
      </PageHead>
      <Panel title="Who answers">
        {split ? (
          <LaneBand
            lanes={
              now?.split === split.number
                ? now.lanes
                : split.lanes.map((l) => ({
                    ...l,
                    healthy: true,
                    requests: 0,
                    failed: 0,
                    rate: 0,
                    error_rate: 0,
                    p50_ms: 0,
                    p95_ms: 0,
                    p99_ms: 0,
                  }))
            }
          />
        ) : (
          <Empty command={`innerladder split ${e.name} ${e.model}@1=100`}>
            Nothing answers for it yet. Place a version, then send all traffic to it:
          </Empty>
        )}
        {split?.reason && <p className="text-ink-2 mt-2.5 text-[13px]">“{split.reason}”</p>}
      </Panel>
      {split && <Signals endpoint={e.name} main={main?.version ?? ''} now={now} />}
      <SplitHistory endpoint={e.name} />
      <ContractPanel endpoint={e} />
      <ActivityPanel subject={e.name} />
      {mayRoute && <CallersPanel endpoint={e} />}
    </>
  )
}

function EditSheet({ endpoint: e }: { endpoint: Endpoint }) {
  const rungs = useLadder(e.project).data?.rungs.map((r) => r.name) ?? [e.rung]
  return (
    <FormSheet title={`Change ${e.name}`} trigger={<Button>Change it</Button>}>
      {(done) => (
        <div className="grid gap-6">
          <EditEndpoint endpoint={e} rungs={rungs} done={done} />
          <RemoveEndpoint endpoint={e} done={done} />
        </div>
      )}
    </FormSheet>
  )
}

const windows: Record<string, string> = { '2 min': '2m', '15 min': '15m', '1 h': '1h', '1 day': '24h' }

function Signals({ endpoint, main, now }: { endpoint: string; main: string; now: EndpointNow | undefined }) {
  const [measure, setMeasure] = useState<Measure>('p99_ms')
  const [window, setWindow] = useState('15 min')
  const [asTable, setAsTable] = useState(false)
  const series = useSeries(endpoint, windows[window] ?? '15m')
  const measures = Object.keys(measureText) as Measure[]
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-5 lg:grid-cols-[minmax(0,1fr)_minmax(0,1fr)]">
      <Panel
        title={`${measure === 'rate' ? 'Requests a second' : measure === 'error_rate' ? 'Errors' : `Latency ${measureText[measure]}`}, last ${window}`}
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
                  <LatencyTable series={s} measure={measure} />
                ) : (
                  <LatencyChart series={s} measure={measure} main={main} />
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
              {now && now.guards.length > 0 && <GuardList guards={now.guards} />}
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
