import { useRollouts, type Rollout } from '../api/rollouts'
import { short } from '../ui/format'
import { Ago, Empty, Loaded, PageHead, Panel, Ref, Tag, To } from '../ui/parts'
import { has, planName, stands, tone } from './words'

export function RolloutsPage() {
  return (
    <>
      <PageHead title="Rollouts" sub="every move of an endpoint by a plan, newest first" />
      <Panel>
        <RolloutList />
      </Panel>
    </>
  )
}

/** Rollouts, newest first, of one endpoint when it is named. */
export function RolloutList({ endpoint }: { endpoint?: string }) {
  const rollouts = useRollouts(endpoint)
  return (
    <Loaded query={rollouts}>
      {(list) =>
        list.items.length === 0 ? (
          <Empty command={`innerladder roll ${endpoint ?? 'ENDPOINT'} -to MODEL@NUMBER -dry-run`}>
            Nothing was rolled out by a plan yet. To see what one would do:
          </Empty>
        ) : (
          <ol>
            {list.items.map((o) => (
              <RolloutRow key={o.id} rollout={o} named={endpoint === undefined} />
            ))}
          </ol>
        )
      }
    </Loaded>
  )
}

function RolloutRow({ rollout: o, named }: { rollout: Rollout; named: boolean }) {
  return (
    <li className="border-line flex flex-wrap items-baseline gap-x-4 gap-y-1 border-t py-2 first:border-0">
      <span className="w-12">
        <To to={`/rollouts/${o.id}`}>{o.id}</To>
      </span>
      {named && <To to={`/endpoints/${o.endpoint}`}>{o.endpoint}</To>}
      <span>
        <Ref to={o.incumbent}>{short(o.incumbent)}</Ref> → <Ref to={o.candidate}>{short(o.candidate)}</Ref>
      </span>
      <Tag tone={tone(o)}>{stands(o)}</Tag>
      <span className="text-ink-2">
        {has(o)} · {planName(o.plan)}
        {o.reason && ` · “${o.reason}”`}
      </span>
      <span className="text-ink-2 ml-auto">
        {o.by}, <Ago at={o.asked_at} />
      </span>
    </li>
  )
}
