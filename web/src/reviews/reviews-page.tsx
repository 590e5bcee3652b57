import { useState } from 'react'

import type { Promotion } from '../api/client'
import { ActivityFold } from '../activity/activity-list'
import { useMay, useMe } from '../api/people'
import { usePromotions, useSign } from '../api/queries'
import { Ago, Button, Empty, inputLook, Loaded, PageHead, Panel, Problem, Ref, StateMark } from '../ui/parts'

export function ReviewsPage() {
  const open = usePromotions({ state: 'open' })
  return (
    <>
      <PageHead title="Reviews" sub="promotions that wait for someone" />
      <Loaded query={open}>
        {(list) =>
          list.items.length === 0 ? (
            <Panel>
              <Empty command="innerladder promote heat-demand@2 -to live">Nothing waits. Whoever wants a version on a higher rung asks for it:</Empty>
            </Panel>
          ) : (
            list.items.map((p) => <Review key={p.id} promotion={p} />)
          )
        }
      </Loaded>
    </>
  )
}

function Review({ promotion: p }: { promotion: Promotion }) {
  const me = useMe().data?.name
  const may = useMay('sign', p.project)
  const sign = useSign(p.id)
  const [note, setNote] = useState('')
  return (
    <Panel
      title={
        <span className="text-ink text-[15px]">
          {p.id}: <Ref to={p.version} /> from {p.from} to {p.to}
        </span>
      }
      aside={
        <span className="text-ink-2 text-[12.5px]">
          asked by {p.asked_by}, <Ago at={p.opened_at} />
        </span>
      }
    >
      {p.note && <p className="mb-3 max-w-[80ch]">“{p.note}”</p>}
      <ul className="grid gap-1.5">
        {p.findings.map((f) => (
          <li key={f.rung + f.requirement} className="flex items-baseline gap-3">
            <StateMark state={f.state} />
            <span className="text-ink-2 hidden w-20 shrink-0 sm:inline">{f.rung}</span>
            <span>{f.sentence}</span>
          </li>
        ))}
      </ul>
      {p.incumbent && (
        <p className="text-ink-2 mt-3">
          A sign-off is for this version against <Ref to={p.incumbent} />; it does not count if either changes.
        </p>
      )}
      {p.asked_by === me ? (
        <p className="text-ink-2 mt-3">You asked for it, so someone else must sign.</p>
      ) : !may ? (
        <p className="text-ink-2 mt-3">It waits for someone who may sign in {p.project}.</p>
      ) : (
        <form className="mt-4 flex flex-wrap items-center gap-2" onSubmit={(event) => event.preventDefault()}>
          <input className={`${inputLook} max-w-96`} aria-label="Note" placeholder="what you looked at; needed for a no" value={note} onChange={(event) => setNote(event.target.value)} />
          <Button look="go" disabled={sign.isPending} onClick={() => sign.mutate({ answer: 'yes', note })}>
            Sign yes
          </Button>
          <Button look="back" disabled={sign.isPending} onClick={() => sign.mutate({ answer: 'no', note })}>
            Say no
          </Button>
        </form>
      )}
      {sign.error && (
        <div className="mt-3">
          <Problem error={sign.error} />
        </div>
      )}
      <ActivityFold subject={p.id} />
    </Panel>
  )
}
