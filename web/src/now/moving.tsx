import { useNow } from '../api/queries'
import { useRollout, useRollouts } from '../api/rollouts'
import { GuardList } from '../endpoints/guards'
import { has, lasting, stands, tone } from '../rollouts/words'
import { short, words } from '../ui/format'
import { Empty, Panel, Tag, To } from '../ui/parts'

/** Every move at a glance: rollouts, those that are held first, and trials by hand. */
export function Moving() {
  const rollouts = useRollouts(undefined, true).data?.items ?? []
  const moving = (useNow().data ?? []).filter(
    (n) => n.guards.length > 0 && !rollouts.some((o) => o.endpoint === n.endpoint),
  )
  return (
    <Panel title="What is moving?" aside={<To to="/rollouts">all rollouts</To>}>
      <div className="grid gap-3">
        {[...rollouts]
          .sort((a, b) => Number(!!b.held) - Number(!!a.held))
          .map((o) => (
            <MovingRollout key={o.id} id={o.id} />
          ))}
      </div>
      {moving.length === 0 && rollouts.length === 0 ? (
        <Empty>Nothing is on trial.</Empty>
      ) : (
        moving.map((n) => (
          <div key={n.endpoint} className="grid gap-2">
            <To to={`/endpoints/${n.endpoint}`}>{n.endpoint}</To>
            <GuardList now={n} />
          </div>
        ))
      )}
    </Panel>
  )
}

/** A rollout at a glance: where it stands, what it waits for, how near it is to being rolled back. */
function MovingRollout({ id }: { id: string }) {
  const o = useRollout(id).data
  if (!o) return null
  const worst = o.guards.reduce((most, g) => Math.max(most, g.progress), 0)
  return (
    <div>
      <div className="flex flex-wrap items-baseline gap-x-2.5">
        <To to={`/rollouts/${o.id}`}>{o.id}</To>
        <span>
          {o.endpoint}: {short(o.incumbent)} → {short(o.candidate)}
        </span>
        <Tag tone={o.held ? 'bad' : tone(o)}>{stands(o)}</Tag>
        <b className="ml-auto">{has(o)}</b>
      </div>
      <div className="text-ink-2 text-[13px]">
        {o.held
          ? `Held by ${o.held.by}: ${o.held.why}`
          : `${o.standing.waits.length > 0 ? `waits for ${words(o.standing.waits[0]?.for ?? '')}` : 'moves now'}${
              o.standing.left ? `, about ${lasting(o.standing.left)}` : ''
            }`}
        {o.guards.length > 0 && ` · evidence against it ${Math.round(Math.min(1, worst) * 100)} %`}
      </div>
    </div>
  )
}
