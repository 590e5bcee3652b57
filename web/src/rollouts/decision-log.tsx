import type { ShownRollout } from '../api/rollouts'
import { exact, words } from '../ui/format'
import { Panel } from '../ui/parts'
import { classes } from '../ui/classes'
import { lasting } from './words'

/** What the next step waits for, each with how far it has come. */
export function Waits({ rollout: o }: { rollout: ShownRollout }) {
  return (
    <div className="border-line mt-2 border-t pt-2.5">
      <div className="mb-1.5">
        Next: <b className="font-medium">{o.standing.next}</b>
        {o.standing.left && <span className="text-ink-2"> · in about {lasting(o.standing.left)}</span>}
      </div>
      <ul className="grid gap-1.5 md:grid-cols-2">
        {o.standing.waits.map((w) => (
          <li key={w.for} className="flex items-center gap-2.5 text-[13px]">
            <span className="bg-line h-1.5 w-20 shrink-0 overflow-hidden rounded-full" aria-hidden>
              <span className="bg-trial-line block h-full" style={{ width: `${w.done * 100}%` }} />
            </span>
            <span>
              waits for {words(w.for)} <span className="text-ink-2">({Math.floor(w.done * 100)} %)</span>
            </span>
          </li>
        ))}
        {o.standing.waits.length === 0 && <li className="text-ink-2 text-[13px]">Nothing is missing: it moves now.</li>}
      </ul>
    </div>
  )
}

/** What was seen, what it meant, and what was done, newest first. */
export function Decisions({ rollout: o }: { rollout: ShownRollout }) {
  return (
    <Panel title="Decisions">
      <ol>
        {[...o.decisions].reverse().map((d) => (
          <li
            key={d.number}
            className={classes(
              'border-line grid grid-cols-[88px_minmax(0,1fr)] gap-x-3 border-t py-2 first:border-0',
              'md:grid-cols-[88px_minmax(0,1fr)_110px]',
            )}
          >
            <time className="text-ink-2" dateTime={d.at} title={exact(new Date(d.at))}>
              {d.at.slice(11, 19)}
            </time>
            <div>
              <b className={d.phase === 'rolled_back' ? 'text-bad font-medium' : 'font-medium'}>
                {d.phase === 'rolled_back' && '✕ '}
                {d.did}
              </b>
              <div className="text-ink-2 text-[13px]">
                {d.seen} {d.means}
              </div>
            </div>
            <span className="text-ink-2 col-start-2 md:col-start-auto md:text-right">
              {d.split ? `#${d.split} · ` : ''}
              {d.by}
            </span>
          </li>
        ))}
      </ol>
    </Panel>
  )
}
