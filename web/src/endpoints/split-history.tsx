import { useSplits } from '../api/queries'
import { laneShare, short } from '../ui/format'
import { Ago, Empty, Loaded, Panel, Ref, To } from '../ui/parts'
import { classes } from '../ui/classes'
import { ruleText } from './rule-draft'

/** All splits of an endpoint, newest first: what each was, why, and which were left for a reason. */
export function SplitHistory({ endpoint }: { endpoint: string }) {
  const splits = useSplits(endpoint)
  return (
    <Panel title="Splits">
      <Loaded query={splits}>
        {(list) =>
          list.items.length === 0 ? (
            <Empty>There were none yet.</Empty>
          ) : (
            <ol className="grid">
              {list.items.map((s) => (
                <li
                  key={s.number}
                  className={classes(
                    'border-line grid grid-cols-[44px_minmax(0,1fr)] items-baseline gap-x-3',
                    'border-t py-2 first:border-0',
                    'md:grid-cols-[44px_minmax(0,300px)_minmax(0,1fr)_150px]',
                  )}
                >
                  <b>#{s.number}</b>
                  <span>
                    {s.lanes.map((l, i) => (
                      <span key={l.version}>
                        {i > 0 && ', '}
                        <Ref to={l.version}>{short(l.version)}</Ref> {laneShare(l)}
                        {l.kind === 'trial' && <span className="text-trial"> trial</span>}
                      </span>
                    ))}
                    {s.leaves && (
                      <span className="text-bad">
                        {' '}
                        ✕ {s.returns_to ? `back to #${s.returns_to}` : `away from #${s.leaves}`}
                      </span>
                    )}
                    {s.rules?.map((r, i) => (
                      <span key={i} className="text-ink-2 block text-[12.5px] [overflow-wrap:anywhere]">
                        {ruleText(r)}: {short(r.version)}
                      </span>
                    ))}
                    {s.left && (
                      <span className="text-ink-2 block text-[12.5px]">
                        left for #{s.left.for} by {s.left.by}, <Ago at={s.left.at} />
                      </span>
                    )}
                  </span>
                  <span className="text-ink-2 col-start-2 md:col-start-auto">{s.reason}</span>
                  <span className="text-ink-2 col-start-2 md:col-start-auto md:text-right">
                    {s.rollout ? <To to={`/rollouts/${s.rollout}`}>{s.rollout}</To> : s.author}, <Ago at={s.made_at} />
                  </span>
                </li>
              ))}
            </ol>
          )
        }
      </Loaded>
    </Panel>
  )
}
