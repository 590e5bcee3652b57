import { useState } from 'react'
import { useParams } from 'react-router'

import type { Promotion, Review } from '../api/client'
import { ActivityPanel } from '../activity/activity-list'
import { useMe } from '../api/people'
import { useReview, useWithdraw } from '../api/ladder'
import { CardView } from '../models/card-view'
import { DiffTable } from '../models/diff-panel'
import { EmergencyTag } from '../models/ladder-board'
import { EvidenceDrawing } from '../models/evidence-drawing'
import { EvidenceHead } from '../models/evidence-view'
import { count, number, short, words } from '../ui/format'
import { FormSheet } from '../ui/form'
import {
  Ago,
  Button,
  Empty,
  Facts,
  Field,
  inputLook,
  Loaded,
  PageHead,
  Panel,
  Problem,
  Ref,
  StateMark,
  Tag,
  To,
  Verdict,
} from '../ui/parts'
import { Checklist, Decide } from './answer'
import { said } from './said'

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
      {p.note && <p className="-mt-2 max-w-[80ch] text-[15px]">“{p.note}”</p>}
      <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 xl:grid-cols-[minmax(0,1fr)_minmax(380px,0.62fr)]">
        <div className="order-2 grid min-w-0 gap-5 xl:order-none">
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

export function StateTag({ promotion: p }: { promotion: Promotion }) {
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
          <Field label="Why">
            <input className={inputLook} value={why} onChange={(event) => setWhy(event.target.value)} />
          </Field>
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

/** What the gates say, one requirement a line, with a link to what shows it. */
function GateList({ review: r }: { review: Review }) {
  const p = r.promotion
  const met = p.findings.filter((f) => f.state === 'passed').length
  return (
    <Panel
      title="The gate"
      aside={
        <span className="text-ink-2 text-[12.5px]">
          {p.findings.length === 0 ? '' : `${met} of ${p.findings.length} met${p.closed_at ? ' when it ended' : ''}`}
        </span>
      }
    >
      {p.findings.length === 0 ? (
        <Empty>It was not judged.</Empty>
      ) : (
        <ul className="grid gap-1.5">
          {[...p.findings]
            .sort((a, b) => urgency.indexOf(a.state) - urgency.indexOf(b.state))
            .map((f, i) => (
              <li key={i} className="flex items-baseline gap-3">
                <StateMark state={f.state} />
                <span className="min-w-0">
                  <Linked text={f.sentence} to={f.proof} /> <span className="text-ink-3 text-[12.5px]">{f.rung}</span>
                </span>
              </li>
            ))}
        </ul>
      )}
      {p.sign_offs.length > 0 && (
        <ul className="border-line mt-3 grid gap-1 border-t pt-2.5">
          {p.sign_offs.map((s) => (
            <li key={s.by} className={s.stale || s.void ? 'text-ink-2' : ''}>
              <b className="font-medium">{s.by}</b> {said(s)}{' '}
              <span className="text-ink-2">
                {s.note && `“${s.note}”`} <Ago at={s.at} />
              </span>
            </li>
          ))}
        </ul>
      )}
    </Panel>
  )
}

/** What keeps it back is read first. */
const urgency = ['failed', 'waiting', 'passed']

/** A sentence in which the report that it speaks of leads to the report. */
function Linked({ text, to }: { text: string; to?: string }) {
  if (!to?.startsWith('E-')) return text
  const link = (
    <a className="underline underline-offset-3" href={`#${to}`}>
      {to}
    </a>
  )
  const at = text.indexOf(to)
  if (at < 0)
    return (
      <>
        {text} {link}
      </>
    )
  return (
    <>
      {text.slice(0, at)}
      {link}
      {text.slice(at + to.length)}
    </>
  )
}

function SideBySide({ review: r }: { review: Review }) {
  const v = r.candidate
  if (!r.diff) {
    return (
      <Panel title={`What ${short(v.ref)} is`}>
        <p className="text-ink-2 mb-2">
          {r.promotion.incumbent
            ? `${r.promotion.incumbent} is no longer there to compare with.`
            : `Nobody else stands on ${r.promotion.to}, so there is nothing to compare with.`}
        </p>
        <Facts
          empty="Nothing was recorded."
          rows={[
            ...Object.entries(v.metrics).map(([k, x]) => [k, number(x)] as const),
            ...(v.data ?? []).map((d) => [words(d.role.replace('-', ' ')), d.data] as const),
            ...(v.run
              ? [
                  [
                    'run',
                    <To key="r" to={`/models/runs/${v.run}`}>
                      {v.run}
                    </To>,
                  ] as const,
                ]
              : []),
            ...(v.code ? [['code', v.code.commit.slice(0, 12)] as const] : []),
          ]}
        />
      </Panel>
    )
  }
  return (
    <Panel title={`What is different: ${r.diff.from} and ${r.diff.to}`}>
      <DiffTable diff={r.diff} />
    </Panel>
  )
}

function EvidencePanel({ review: r }: { review: Review }) {
  return (
    <Panel
      title="Evidence"
      aside={<To to={`/models/${r.candidate.model}/versions/${r.candidate.number}?show=evidence`}>all of it</To>}
    >
      {r.evidence.length === 0 ? (
        <Empty command={`innerladder attach ${r.candidate.ref} -kind tests report.xml`}>No report is attached.</Empty>
      ) : (
        <div className="grid gap-5">
          {r.evidence.map((e) => {
            const before = r.incumbent_evidence.find((o) => o.kind === e.kind)
            return (
              <div key={e.id} id={e.id} className="border-line min-w-0 border-t pt-3 first:border-0 first:pt-0">
                <EvidenceHead evidence={e} />
                {before && (
                  <p className="text-ink-2 text-[13px]">
                    {short(before.version)} had: {before.says} ({before.id})
                  </p>
                )}
                <EvidenceDrawing evidence={e} />
              </div>
            )
          })}
        </div>
      )}
    </Panel>
  )
}
