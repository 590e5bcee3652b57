import type { ReactNode } from 'react'

import type { EndpointNow } from '../api/client'
import { usePromotions } from '../api/ladder'
import { useAlerts, useEndpoints, useNow } from '../api/queries'
import { ActivityList } from '../activity/activity-list'
import { EndpointState } from '../watches/state-mark'
import { worstFirst } from '../watches/states'
import { Trend } from './trend'
import { LaneBand } from '../endpoints/lane-band'
import { Moving } from './moving'
import { EmergencyTag, GateTicks } from '../models/ladder-board'
import { words } from '../ui/format'
import { Ago, Empty, Loaded, PageHead, Panel, Ref, To } from '../ui/parts'

export function NowPage() {
  return (
    <>
      <PageHead title="Now" sub="what is live, what is moving, what waits, what is wrong, what happened" />
      <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 xl:grid-cols-[minmax(0,1.35fr)_minmax(0,1fr)]">
        <Live />
        <div className="grid gap-5">
          <Moving />
          <Waiting />
          <Wrong />
        </div>
      </div>
      <Happened />
    </>
  )
}

/** How many addresses of the lanes that answer are healthy: 2 of 3 healthy; a dash where there is none. */
function healthyOf(now: EndpointNow | undefined) {
  const lanes = (now?.lanes ?? []).filter((l) => l.kind !== 'shadow')
  const all = lanes.reduce((n, l) => n + l.addresses, 0)
  return all === 0 ? '–' : `${lanes.reduce((n, l) => n + l.healthy_addresses, 0)} of ${all} healthy`
}

function Live() {
  const endpoints = useEndpoints()
  const now = useNow().data ?? []
  const of = (name: string) => now.find((n) => n.endpoint === name)
  const badness = (name: string) => worstFirst.indexOf(of(name)?.state ?? 'well')
  return (
    <Panel title="What is live?">
      <Loaded query={endpoints}>
        {(list) =>
          list.items.length === 0 ? (
            <Empty command="innerladder register heat-demand -file model.json -metric rmse=0.38 -sample rows.csv -target demand_mw">
              Nothing yet. The way there: register a version, have it approved, place it, add an endpoint, split.
            </Empty>
          ) : (
            <div className="grid gap-4">
              {[...list.items]
                .sort((a, b) => badness(a.name) - badness(b.name))
                .map((e) => (
                  <div key={e.name}>
                    <div className="mb-1.5 flex justify-between gap-4">
                      <span className="inline-flex items-baseline gap-2">
                        <To to={`/endpoints/${e.name}`}>{e.name}</To> <EndpointState state={of(e.name)?.state} />
                        <Trend of={of(e.name)} />
                      </span>
                      <span className="text-ink-2 text-[12.5px]">
                        {e.model} in {e.environment}
                        {e.split && ` · #${e.split.number}`} ·{' '}
                        {e.split?.elsewhere ? 'elsewhere' : healthyOf(of(e.name))}
                        {e.watches.owner && ` · ${e.watches.owner}`}
                        {e.watches.runbook && (
                          <>
                            {' · '}
                            <a className="text-main underline" href={e.watches.runbook} rel="noreferrer">
                              runbook
                            </a>
                          </>
                        )}
                      </span>
                    </div>
                    {e.split ? (
                      <LaneBand compact lanes={of(e.name)?.lanes ?? []} refused={of(e.name)?.refused} />
                    ) : (
                      <span className="text-ink-2">nothing answers yet</span>
                    )}
                  </div>
                ))}
            </div>
          )
        }
      </Loaded>
    </Panel>
  )
}

/** A list whose items have a heading, a line of detail, and a time. */
function Rows({ rows }: { rows: { key: string; head: ReactNode; detail: ReactNode; at: string }[] }) {
  return (
    <ul>
      {rows.map((r) => (
        <li key={r.key} className="border-line border-t py-2 first:border-0 first:pt-0">
          <div className="flex justify-between gap-4">
            <span>{r.head}</span>
            <span className="text-ink-2 text-[12.5px]">
              <Ago at={r.at} />
            </span>
          </div>
          <div className="text-ink-2 text-[13px]">{r.detail}</div>
        </li>
      ))}
    </ul>
  )
}

function Waiting() {
  const open = usePromotions({ for_me: true })
  return (
    <Panel title="What waits for me?">
      <Loaded query={open}>
        {(list) => {
          if (list.items.length === 0) return <Empty>Nothing waits for you.</Empty>
          return (
            <Rows
              rows={list.items.map((p) => ({
                key: p.id,
                at: p.opened_at,
                head: (
                  <>
                    {p.emergency && <EmergencyTag />} <To to={`/reviews/${p.id}`}>{p.id}</To>: <Ref to={p.version} /> to{' '}
                    {p.to} <GateTicks promotion={p} />
                  </>
                ),
                detail: `${p.asked_by} asks${p.note ? `: “${p.note}”` : ''}`,
              }))}
            />
          )
        }}
      </Loaded>
    </Panel>
  )
}

function Wrong() {
  const alerts = useAlerts('unresolved')
  return (
    <Panel title="What is wrong?">
      <Loaded query={alerts}>
        {(list) =>
          list.items.length === 0 ? (
            <Empty>No alert is open.</Empty>
          ) : (
            <Rows
              rows={list.items.slice(0, 5).map((a) => ({
                key: a.id,
                at: a.raised_at,
                head: (
                  <span className={a.state === 'open' ? 'text-bad' : 'text-trial'}>
                    {a.state === 'open' ? '✕' : '◐'} <To to="/alerts">{a.id}</To> {words(a.kind)}
                    {a.endpoint && (
                      <>
                        {' '}
                        at <To to={`/endpoints/${a.endpoint}`}>{a.endpoint}</To>
                      </>
                    )}
                    {a.state === 'acknowledged' && ` · ${a.handled_by} has seen it`}
                  </span>
                ),
                detail: (
                  <>
                    {a.sentence} {a.incident && <To to={`/incidents/${a.incident}`}>{a.incident}</To>}
                  </>
                ),
              }))}
            />
          )
        }
      </Loaded>
    </Panel>
  )
}

function Happened() {
  return (
    <Panel title="What happened?" aside={<To to="/activity">all activity</To>}>
      <ActivityList limit={10} more={false} />
    </Panel>
  )
}
