import { useParams } from 'react-router'

import type { Endpoint, EndpointNow } from '../api/client'
import { useLadder } from '../api/ladder'
import { useMay } from '../api/people'
import { useEndpoint, useEndpointNow } from '../api/queries'
import { short } from '../ui/format'
import { FormSheet } from '../ui/form'
import { Ago, Button, Empty, Loaded, PageHead, Panel, To } from '../ui/parts'
import { ActivityPanel } from '../activity/activity-list'
import { EditEndpoint, RemoveEndpoint } from '../environments/endpoint-form'
import { AgentsPanel } from './agents-panel'
import { CallersPanel } from './callers-panel'
import { SplitSheet } from './change-split'
import { BackSheet } from './go-back'
import { ContractPanel } from './contract-panel'
import { CopiesDrawing } from '../copies/copies-drawing'
import { EndpointLinks } from './endpoint-links'
import { LaneBand } from './lane-band'
import { IncidentList } from '../incidents/incidents-page'
import { RolloutList } from '../rollouts/rollouts-page'
import { StartRollout } from '../rollouts/start-rollout'
import { RunningPanel } from '../running/running-panel'
import { RulesPanel } from './rules'
import { Signals } from './signals'
import { SplitHistory } from './split-history'
import { EndpointState } from '../watches/state-mark'
import { WatchesPanel } from '../watches/watches-panel'

export function EndpointPage() {
  const { endpoint: name = '' } = useParams()
  const endpoint = useEndpoint(name)
  const now = useEndpointNow(name)
  return <Loaded query={endpoint}>{(e) => <EndpointView endpoint={e} now={now} />}</Loaded>
}

function EndpointView({ endpoint: e, now }: { endpoint: Endpoint; now: EndpointNow | undefined }) {
  const mayRoute = useMay('route', e.project)
  const mayInspect = useMay('inspect', e.project)
  const split = e.split
  const main = split?.lanes.find((l) => l.kind === 'main')
  const shadows = now?.lanes.filter((l) => l.copies_shown) ?? []
  const ruled = (split?.rules?.length ?? 0) > 0
  const rate = now?.lanes.reduce((sum, l) => sum + (l.kind === 'shadow' ? 0 : l.rate), 0) ?? 0
  return (
    <>
      <PageHead
        title={
          <span className="inline-flex flex-wrap items-baseline gap-3">
            {e.name} <EndpointState state={now?.state} />
          </span>
        }
        sub={
          <>
            {e.model} in {e.environment}
            {split?.elsewhere && ', where the gateway does not reach'}
            {split && (
              <>
                {' '}
                · split #{split.number}, <Ago at={split.made_at} /> by {split.author} · {rate.toFixed(0)} requests/s
              </>
            )}
            {e.description && ` · ${e.description}`} · project {e.project}
            <Owner of={e.watches} />
          </>
        }
      >
        <EndpointLinks endpoint={e} mayInspect={mayInspect} />
        {mayRoute && <EditSheet endpoint={e} />}
        {mayRoute && split && !split.elsewhere && !e.rollout && <StartRollout endpoint={e} />}
        {mayRoute && !e.rollout && <SplitSheet endpoint={e} />}
        {mayRoute && split && split.number > 1 && <BackSheet endpoint={e} />}
      </PageHead>
      {e.rollout && (
        <Panel className="border-l-trial-line border-l-[3px]">
          <To to={`/rollouts/${e.rollout}`}>{e.rollout}</To> moves it now: see its steps, its evidence and its decisions
          there.
        </Panel>
      )}
      {now?.diverted && (
        <Panel className="border-l-bad border-l-[3px]">
          <b className="text-bad">✕ Not recorded yet.</b> {now.diverted}
        </Panel>
      )}
      <Panel title="Who answers">
        {split ? (
          <LaneBand
            refused={now?.refused}
            lanes={
              now?.split === split.number
                ? now.lanes
                : split.lanes.map((l) => ({
                    ...l,
                    healthy: true,
                    addresses: 0,
                    healthy_addresses: 0,
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
      {shadows.map(
        (l) =>
          l.copies_shown && (
            <Panel key={l.version} title={`What copies show of ${short(l.version)}`}>
              <CopiesDrawing report={l.copies_shown} />
            </Panel>
          ),
      )}
      {split && !split.elsewhere && (
        <RunningPanel environment={e.environment} versions={split.lanes.map((l) => l.version)} />
      )}
      {split?.elsewhere && <AgentsPanel endpoint={e.name} />}
      {split && ruled && <RulesPanel endpoint={e} split={split} />}
      {split && <WatchesPanel endpoint={e} />}
      {split && <Signals endpoint={e.name} main={main?.version ?? ''} now={now} />}
      {!split?.elsewhere && (
        <>
          <Panel title="Rollouts" aside={<To to="/rollouts">all of them</To>}>
            <RolloutList endpoint={e.name} />
          </Panel>
          <Panel title="Incidents" aside={<To to="/incidents">all of them</To>}>
            <IncidentList endpoint={e.name} />
          </Panel>
        </>
      )}
      {split && !split.elsewhere && !ruled && <RulesPanel endpoint={e} split={split} />}
      <SplitHistory endpoint={e.name} />
      <ContractPanel endpoint={e} />
      <ActivityPanel subject={e.name} />
      {mayRoute && !split?.elsewhere && <CallersPanel endpoint={e} />}
    </>
  )
}

/** Whose an endpoint is, and where it says what to do. */
function Owner({ of }: { of: Endpoint['watches'] }) {
  return (
    <>
      {of.owner && ` · owner ${of.owner}`}
      {of.runbook && (
        <>
          {' · '}
          <a className="text-main underline" href={of.runbook} rel="noreferrer">
            runbook
          </a>
        </>
      )}
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
