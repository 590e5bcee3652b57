import { useState } from 'react'

import type { Stand } from '../api/client'
import { useWatches } from '../api/requests'
import { Ago, Empty, LinkButton, Loaded, Panel } from '../ui/parts'

const tones = {
  firing: 'text-bad font-semibold',
  pending: 'text-trial font-semibold',
  quiet: 'text-main',
  'not enough to tell': 'text-ink-2 italic',
} as const

/** What is watched of an endpoint, the worst first; those that are quiet are shown when asked for. */
export function WatchesPanel({ endpoint }: { endpoint: string }) {
  const watches = useWatches(endpoint)
  const [all, setAll] = useState(false)
  return (
    <Panel title="Watches">
      <Loaded query={watches}>
        {(w) => {
          const wrong = w.items.filter((s) => s.state === 'firing' || s.state === 'pending')
          const quiet = w.items.filter((s) => s.state === 'quiet').length
          return w.items.length === 0 ? (
            <Empty command={`innerladder watches ${endpoint}`}>Nothing was looked at yet.</Empty>
          ) : (
            <>
              <ul>
                {(all ? w.items : wrong).map((s) => (
                  <Watch key={s.signal} stand={s} />
                ))}
              </ul>
              <p className="text-ink-2 mt-1.5 text-[12.5px]">
                {quiet} quiet, {w.items.length - quiet - wrong.length} not enough to tell. Together they raise one false
                alarm in 90 days at most.{' '}
                <LinkButton onClick={() => setAll(!all)}>{all ? 'only what is wrong' : 'show all of them'}</LinkButton>
              </p>
            </>
          )
        }}
      </Loaded>
    </Panel>
  )
}

function Watch({ stand: s }: { stand: Stand }) {
  return (
    <li
      className={
        'border-line grid grid-cols-[minmax(0,15rem)_9rem_minmax(0,1fr)] gap-x-4 border-t py-1.5 ' + 'first:border-0'
      }
    >
      <span className="truncate" title={s.signal}>
        {s.signal}
      </span>
      <span className={tones[s.state]} data-watch={s.state}>
        {s.state}
        {s.state === 'pending' && ` ${Math.round(s.progress * 100)} %`}
      </span>
      <span className="text-ink-2 text-[13px]">
        {s.sentence} {s.state === 'firing' && <Ago at={s.since} />}
      </span>
    </li>
  )
}
