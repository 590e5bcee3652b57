import type { Job } from '../api/jobs'
import { count, exact } from '../ui/format'
import { Panel, Ref, To } from '../ui/parts'

/** What the answers were held against, and the report. */
export function Judged({ job: j, judged: e }: { job: Job; judged: NonNullable<Job['evaluating']> }) {
  return (
    <Panel title="Held against the truth">
      <p className="text-[13.5px]">
        The truth stands in the column {e.target}.{' '}
        {e.against && (
          <>
            <Ref to={e.against} /> is asked about the same rows.{' '}
          </>
        )}
        {e.standing && <>It is the standing evaluation {e.standing}. </>}
        <Report job={j} id={e.evidence} when="all rows are answered" />
      </p>
    </Panel>
  )
}

/** The report that a job makes, or when it will. */
function Report({ job: j, id, when }: { job: Job; id?: string; when: string }) {
  const [model = '', number = ''] = (j.scoring?.version ?? '').split('@')
  if (!id) return <>The report is made when {when}.</>
  return (
    <>
      The report is <To to={`/models/${model}/versions/${number}?show=evidence`}>{id}</To>.
    </>
  )
}

/** As whose callers the robustness of a version is tested, and the report. */
export function Disturbed({ job: j, of: r }: { job: Job; of: NonNullable<Job['robustness']> }) {
  return (
    <Panel title="Robustness">
      <p className="text-[13.5px]">
        {count(r.rows)} rows are drawn like those of <Ref to={r.like} />, and asked when things are not as they should
        be. <Report job={j} id={r.evidence} when="all is through" />
      </p>
    </Panel>
  )
}

/** How it is found out on which inputs a version relies, and the report. */
export function Relied({ job: j, of: i }: { job: Job; of: NonNullable<Job['importance']> }) {
  return (
    <Panel title="On which inputs it relies">
      <p className="text-[13.5px]">
        At most {count(i.rows)} rows are drawn of the table; each input is shuffled {i.rounds} times, and moved while
        all else stays{i.target ? `; the truth stands in the column ${i.target}` : ''}.{' '}
        <Report job={j} id={i.evidence} when="all is asked" />
      </p>
    </Panel>
  )
}

/** By what a version is checked, and the report. */
export function Checked({ job: j, of: c }: { job: Job; of: NonNullable<Job['checking']> }) {
  return (
    <Panel title="What must come back">
      <p className="text-[13.5px]">
        The known answers of the version, and the cases {c.cases}.{' '}
        <Report job={j} id={c.evidence} when="all are asked" />
      </p>
    </Panel>
  )
}

/** Which requests are asked again, and the report. */
export function Replayed({ job: j, of: r }: { job: Job; of: NonNullable<Job['replaying']> }) {
  const left = Object.entries(r.left_out ?? {})
  return (
    <Panel title="Asked again">
      <p className="text-[13.5px]">
        What <Ref to={r.answered_by} /> answered for <To to={`/endpoints/${r.endpoint}`}>{r.endpoint}</To> from{' '}
        {exact(new Date(r.from)).slice(0, 16)} to {exact(new Date(r.until)).slice(0, 16)} UTC, at most {r.rate} a
        second: {count(r.taken)} of {count(r.found)} requests
        {left.length > 0 && `; left out: ${left.map(([why, n]) => `${count(n)}: ${why}`).join('; ')}`}.{' '}
        <Report job={j} id={r.evidence} when="all are answered" />
      </p>
    </Panel>
  )
}
