import type { Endpoint, Environment, Placement } from '../api/client'
import { useMay } from '../api/people'
import { useEndpoints, useEnvironments, usePlacements } from '../api/queries'
import { FormSheet } from '../ui/form'
import { Button, Empty, Loaded, PageHead, Panel, To } from '../ui/parts'
import { AddEndpoint } from './endpoint-form'
import { EnvironmentForm, RemoveEnvironment } from './environment-form'
import { Headers } from './headers'
import { Place } from './place-form'
import { RunningPanel } from '../running/running-panel'
import { PlacementTable } from './placement-table'

/** Where versions run: what is placed there and how it is, what its servers are sent, who calls from there. */
export function EnvironmentsPage() {
  const environments = useEnvironments()
  const placements = usePlacements().data?.items ?? []
  const endpoints = useEndpoints().data?.items ?? []
  const mayManage = useMay('manage')
  return (
    <>
      <PageHead title="Environments" sub="where versions run, and at which addresses">
        {mayManage && (
          <FormSheet title="Add an environment" trigger={<Button>Add an environment</Button>}>
            {(done) => <EnvironmentForm done={done} />}
          </FormSheet>
        )}
      </PageHead>
      <Loaded query={environments}>
        {({ items }) =>
          items.length === 0 ? (
            <Panel>
              <Empty command="innerladder environment add plant-north">
                There are no environments yet. Add the first one:
              </Empty>
            </Panel>
          ) : (
            items.map((e) => (
              <EnvironmentPanel
                key={e.name}
                environment={e}
                placements={placements.filter((p) => p.environment === e.name)}
                endpoints={endpoints.filter((n) => n.environment === e.name)}
              />
            ))
          )
        }
      </Loaded>
    </>
  )
}

function EnvironmentPanel({
  environment: e,
  placements,
  endpoints,
}: {
  environment: Environment
  placements: Placement[]
  endpoints: Endpoint[]
}) {
  const mayManage = useMay('manage', e.project)
  const mayPlace = useMay('place')
  const mayRoute = useMay('route')
  return (
    <Panel
      title={<span className="text-ink text-[15px]">{e.name}</span>}
      aside={
        <span className="flex flex-wrap justify-end gap-2">
          {mayManage && (
            <FormSheet title={`Change ${e.name}`} trigger={<Button>Change it</Button>}>
              {(done) => (
                <div className="grid gap-6">
                  <EnvironmentForm environment={e} done={done} />
                  {placements.length + endpoints.length === 0 && <RemoveEnvironment environment={e} done={done} />}
                </div>
              )}
            </FormSheet>
          )}
          {mayRoute && (
            <FormSheet title={`An endpoint in ${e.name}`} trigger={<Button>Add an endpoint</Button>}>
              {(done) => <AddEndpoint environment={e} done={done} />}
            </FormSheet>
          )}
          {mayPlace && (
            <FormSheet title={`Place a version in ${e.name}`} trigger={<Button look="go">Place a version</Button>}>
              {(done) => <Place environment={e} done={done} />}
            </FormSheet>
          )}
        </span>
      }
    >
      <p className="text-ink-2 mb-2 text-[13px]">
        {e.description && `${e.description} · `}of {e.project}
        {e.shared_with.length > 0 && `, shared with ${e.shared_with.join(', ')}`} · model servers may be at{' '}
        {e.allowed.length > 0 ? e.allowed.join(', ') : 'any address'}
      </p>
      {placements.length === 0 ? (
        <Empty command={`innerladder place MODEL@NUMBER -env ${e.name} -at http://HOST:PORT`}>
          No version is placed here yet.
        </Empty>
      ) : (
        <>
          <PlacementTable placements={placements} environment={e} />
          <RunningPanel environment={e.name} />
        </>
      )}
      {endpoints.length > 0 && (
        <p className="mt-3">
          <span className="text-ink-2">Answers from here: </span>
          {endpoints.map((n, i) => (
            <span key={n.name}>
              {i > 0 && ', '}
              <To to={`/endpoints/${n.name}`}>{n.name}</To>
            </span>
          ))}
        </p>
      )}
      {mayManage && (
        <div className="border-line mt-3 border-t pt-3">
          <Headers environment={e} />
        </div>
      )}
    </Panel>
  )
}
