import { useState } from 'react'
import { useParams } from 'react-router'
import type { Promotion, Review } from '../api/client'
import { ActivityPanel } from '../activity/activity-list'
import { useMe } from '../api/people'
import { useReview, useWithdraw } from '../api/ladder'
import { CardView } from '../models/card-view'
import { EmergencyTag } from '../models/ladder-board'
import { RolledBackNote } from '../models/rolled-back'
import { count, short, words } from '../ui/format'
import { FormSheet } from '../ui/form'
import { Ago, Button, Loaded, PageHead, Panel, Problem, Ref, Tag, TextField, To, Verdict } from '../ui/parts'
import { Decide } from './answer'
import { Checklist } from './checklist'
import { MovedPanel } from './moved-panel'
import { EvidencePanel, SideBySide } from './side-by-side'
import { GateList } from './gate-list'

/** One promotion, read like a proposed change: what is different, what the gate says, and the box to answer. */
export function ReviewPage() {
  const { promotion = '' } = useParams()
  const review = useReview(promotion)
  return <Loaded query={review}>{(r) => <ReviewView key={r.promotion.id} review={r} />}</Loaded>
}

function ReviewView({ review: r }: { review: Review }) {
  const p = r.promotion
  const me = useMe().data?.name
  return (
    <>
      <PageHead
        title={
          <>
            {p.id}: <Ref to={p.version} /> to {p.to} <StateTag promotion={p} />
          </>
        }
        sub={
          <>
            from {p.from} · asked by {p.asked_by}, <Ago at={p.opened_at} /> · project {p.project}
            {p.incumbent && (
              <>
                {' '}
                · against <Ref to={p.incumbent} />
              </>
            )}
          </>
        }
      >
        {p.state === 'open' && p.asked_by === me && <Withdraw promotion={p} />}
      </PageHead>
      {r.candidate.rolled_back && <RolledBackNote version={p.version} back={r.candidate.rolled_back} />}
      {p.note && <p className="-mt-2 max-w-[80ch] text-[15px]">“{p.note}”</p>}
      <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 xl:grid-cols-[minmax(0,1fr)_minmax(380px,0.62fr)]">
        <div className="order-2 grid min-w-0 gap-5 xl:order-none">
          <MovedPanel review={r} />
          <SideBySide review={r} />
          {r.measured.map((c) => (
            <Panel
              key={c.endpoint}
              title={`How both behaved at ${c.endpoint}, over the last day`}
              aside={
                <To
                  to={`/endpoints/${c.endpoint}/compare?incumbent=${c.incumbent}&candidate=${c.candidate}&window=24h`}
                >
                  more
                </To>
              }
            >
              <p className="mb-2">{c.sentence}</p>
              <ul>
                {c.rows.map((row) => (
                  <li
                    key={row.signal}
                    className="border-line flex flex-wrap justify-between gap-x-4 border-t py-1 first:border-0"
                  >
                    <span>{row.sentence}</span>
                    <Verdict verdict={row.verdict} />
                  </li>
                ))}
              </ul>
              <p className="text-ink-2 mt-1 text-[12.5px]">
                {count(c.incumbent_requests)} requests answered by {short(c.incumbent)}, {count(c.candidate_requests)}{' '}
                by {short(c.candidate)}
              </p>
            </Panel>
          ))}
          <EvidencePanel review={r} />
          {r.candidate.card && (
            <Panel title="Model card">
              <CardView card={r.candidate.card} />
            </Panel>
          )}
        </div>
        {/* Where there is one column: the gate, then what is different, then the answer. */}
        <div className="contents min-w-0 gap-5 xl:sticky xl:top-5 xl:grid">
          <div className="order-1 min-w-0 xl:order-none">
            <GateList review={r} />
            {!p.closed_at && (
              <a className="mt-2 inline-block underline underline-offset-3 xl:hidden" href="#answer">
                to the checklist and the answer
              </a>
            )}
          </div>
          <div id="answer" className="order-3 grid min-w-0 gap-5 xl:order-none">
            {r.checklist.length > 0 && <Checklist review={r} />}
            <Decide review={r} />
          </div>
        </div>
      </div>
      <ActivityPanel subject={p.id} title="Discussion, and what happened" />
    </>
  )
}

function StateTag({ promotion: p }: { promotion: Promotion }) {
  return (
    <>
      {p.emergency && <EmergencyTag reviewed={p.state !== 'to_review'} />}{' '}
      <Tag tone={p.state === 'carried_out' ? 'main' : p.closed_at ? 'bad' : 'trial'}>{words(p.state)}</Tag>
    </>
  )
}

function Withdraw({ promotion: p }: { promotion: Promotion }) {
  const withdraw = useWithdraw(p.id)
  const [why, setWhy] = useState('')
  return (
    <FormSheet title={`Withdraw ${p.id}`} trigger={<Button>Withdraw</Button>}>
      {(done) => (
        <form
          className="grid gap-4"
          onSubmit={(event) => {
            event.preventDefault()
            withdraw.mutate(why, { onSuccess: done })
          }}
        >
          <TextField label="Why" value={why} onChange={setWhy} />
          {withdraw.error && <Problem error={withdraw.error} />}
          <div className="flex justify-end">
            <Button look="back" type="submit" disabled={withdraw.isPending}>
              Withdraw it
            </Button>
          </div>
        </form>
      )}
    </FormSheet>
  )
}
