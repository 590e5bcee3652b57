import { useMay } from '../api/people'
import { useEndpoints, useNow } from '../api/queries'
import { Ago, Empty, Loaded, PageHead, Panel, To } from '../ui/parts'
import { EndpointState } from '../watches/state-mark'
import { LaneBand } from './lane-band'

export function EndpointsPage() {
  const endpoints = useEndpoints()
  const now = useNow().data ?? []
  const of = (name: string) => now.find((n) => n.endpoint === name)
  const keeps = useMay('administer', '')
  return (
    <>
      <PageHead title="Endpoints" sub="the names that callers call, and who answers for them">
        {keeps && <To to="/requests">Requests that found no endpoint</To>}
      </PageHead>
      <Loaded query={endpoints}>
        {(list) =>
          list.items.length === 0 ? (
            <Panel>
              <Empty command="innerladder endpoint add demand-hourly -model heat-demand -env plant-north">
                There are no endpoints yet. Add the first one:
              </Empty>
            </Panel>
          ) : (
            list.items.map((e) => (
              <Panel
                key={e.name}
                title={
                  <span className="text-ink text-[15px]">
                    <To to={`/endpoints/${e.name}`}>{e.name}</To> <EndpointState state={of(e.name)?.state} />
                  </span>
                }
                aside={
                  <span className="text-ink-2 text-[12.5px]">
                    {e.model} in {e.environment} ·{' '}
                    {e.split ? (
                      <>
                        split #{e.split.number}, <Ago at={e.split.made_at} />
                      </>
                    ) : (
                      'no split yet'
                    )}
                  </span>
                }
              >
                {e.split ? (
                  <LaneBand compact lanes={of(e.name)?.lanes ?? []} refused={of(e.name)?.refused} />
                ) : (
                  <Empty command={`innerladder split ${e.name} ${e.model}@1=100`}>
                    Nothing answers for it yet. Send all traffic to a version:
                  </Empty>
                )}
              </Panel>
            ))
          )
        }
      </Loaded>
    </>
  )
}
