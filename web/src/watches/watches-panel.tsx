import { BellOff } from 'lucide-react'
import { useState } from 'react'

import type { Endpoint, Stand, Watches } from '../api/client'
import { useMay } from '../api/people'
import { useRemoveWatch, useUnmute, useWatches } from '../api/watches'
import { exact, words } from '../ui/format'
import { FormSheet } from '../ui/form'
import { Ago, Button, Empty, LinkButton, Loaded, Panel, Problem } from '../ui/parts'
import { MuteSheet } from './mute-form'
import { WatchFile } from './watch-file'
import { WatchSentence } from './watch-sentence'

const tones = {
  firing: 'text-bad font-semibold',
  pending: 'text-trial font-semibold',
  quiet: 'text-main',
  'not enough to tell': 'text-ink-2 italic',
} as const

/** What is watched of an endpoint, the worst first; those that are quiet are shown when asked for. */
export function WatchesPanel({ endpoint: e }: { endpoint: Endpoint }) {
  const watches = useWatches(e.name)
  return (
    <Panel title="Watches" aside={watches.data && <Doings endpoint={e} of={watches.data} />}>
      <Loaded query={watches}>
        {(w) => (
          <>
            <Rules endpoint={e} of={w} />
            {w.items.length === 0 ? (
              <Empty command={`innerladder watches ${e.name}`}>Nothing was looked at yet.</Empty>
            ) : (
              <Stands of={w} />
            )}
          </>
        )}
      </Loaded>
    </Panel>
  )
}

function Doings({ endpoint: e, of }: { endpoint: Endpoint; of: Watches }) {
  const mayRoute = useMay('route', e.project)
  const mayHandle = useMay('handle', e.project)
  return (
    <span className="flex gap-2">
      {mayRoute && (
        <>
          <FormSheet title={`Watch a signal of ${e.name}`} trigger={<Button>Watch a signal</Button>}>
            {(done) => <WatchSentence of={of} done={done} />}
          </FormSheet>
          <FormSheet title={`The watches of ${e.name} as a file`} trigger={<Button>As a file</Button>}>
            {(done) => <WatchFile of={of} done={done} />}
          </FormSheet>
        </>
      )}
      {mayHandle && <MuteSheet endpoint={e.name} subjects={of.subjects} />}
    </span>
  )
}

/** What people said: how it is watched otherwise than usual, and what is muted. */
function Rules({ endpoint: e, of }: { endpoint: Endpoint; of: Watches }) {
  const mayRoute = useMay('route', e.project)
  const mayHandle = useMay('handle', e.project)
  const remove = useRemoveWatch(e.name)
  const unmute = useUnmute(e.name)
  const rules = of.set.watches ?? []
  if (rules.length + of.mutes.length === 0) return null
  return (
    <ul className="border-line mb-2 grid gap-1 border-b pb-2">
      {of.mutes.map((m) => (
        <li key={m.subject} className="text-trial flex flex-wrap items-center gap-x-2">
          <BellOff size={14} aria-hidden />
          <span>
            {m.subject === 'all' ? 'Everything' : words(m.subject)} is muted until {exact(new Date(m.until))} by {m.by}:
            “{m.reason}”
          </span>
          {mayHandle && <LinkButton onClick={() => unmute.mutate(m.subject)}>end it</LinkButton>}
        </li>
      ))}
      {rules.map((r) => (
        <li key={nameOf(r)} className="flex flex-wrap items-center gap-x-3" data-rule={nameOf(r)}>
          <span>{of.sentences[nameOf(r)]}</span>
          {mayRoute && (
            <>
              <FormSheet
                title={`Watch ${nameOf(r)}`}
                trigger={<button className="text-main cursor-pointer text-[12.5px] underline">change</button>}
              >
                {(done) => <WatchSentence of={of} rule={r} done={done} />}
              </FormSheet>
              <LinkButton bad onClick={() => remove.mutate({ watch: nameOf(r), reason: 'as usual again' })}>
                as usual
              </LinkButton>
            </>
          )}
        </li>
      ))}
      {(remove.error ?? unmute.error) && <Problem error={remove.error ?? unmute.error} />}
    </ul>
  )
}

const nameOf = (r: NonNullable<Watches['set']['watches']>[number]) =>
  r.versus === 'main' ? `${r.signal} versus main` : r.signal

function Stands({ of: w }: { of: Watches }) {
  const [all, setAll] = useState(false)
  const wrong = w.items.filter((s) => s.state === 'firing' || s.state === 'pending')
  const quiet = w.items.filter((s) => s.state === 'quiet').length
  return (
    <>
      <ul>
        {(all ? w.items : wrong).map((s) => (
          <Watch key={s.signal} stand={s} />
        ))}
      </ul>
      <p className="text-ink-2 mt-1.5 text-[12.5px]">
        {quiet} quiet, {w.items.length - quiet - wrong.length} not enough to tell. Together they raise one false alarm
        in 90 days at most.{' '}
        <LinkButton onClick={() => setAll(!all)}>{all ? 'only what is wrong' : 'show all of them'}</LinkButton>
      </p>
    </>
  )
}

function Watch({ stand: s }: { stand: Stand }) {
  return (
    <li
      className="border-line grid grid-cols-[minmax(0,15rem)_9rem_minmax(0,1fr)] gap-x-4 border-t py-1.5 first:border-0"
      title={s.rule}
    >
      <span className="truncate">{s.signal}</span>
      <span className={tones[s.state]} data-watch={s.state}>
        {s.state}
        {s.state === 'pending' && ` ${Math.round(Math.min(1, s.progress) * 100)} %`}
      </span>
      <span className="text-ink-2 text-[13px]">
        {s.sentence} {s.state === 'firing' && <Ago at={s.since} />}
      </span>
    </li>
  )
}
