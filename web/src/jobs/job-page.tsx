import { useState } from 'react'
import { useParams } from 'react-router'

import { ActivityPanel } from '../activity/activity-list'
import { useJob, useResumeJob, useStopJob, type Job } from '../api/jobs'
import { useMay } from '../api/people'
import { Form, FormSheet } from '../ui/form'
import { bytes, count, exact } from '../ui/format'
import { Ago, Button, Empty, Facts, Loaded, PageHead, Panel, Problem, Ref, TextField, To } from '../ui/parts'
import { Found } from './found'
import { JobProgress, JobState } from './progress'

export function JobPage() {
  const { job: id = '' } = useParams()
  return <Loaded query={useJob(id)}>{(j) => <JobView job={j} />}</Loaded>
}

function JobView({ job: j }: { job: Job }) {
  const may = useMay('inspect', j.project)
  const resume = useResumeJob(j.id)
  const s = j.scoring
  const going = j.state === 'waiting' || j.state === 'running'
  return (
    <>
      <PageHead
        title={
          <span className="inline-flex flex-wrap items-center gap-2.5">
            {j.id} <JobState job={j} />
          </span>
        }
        sub={
          s && (
            <>
              <Ref to={s.version} /> is asked about {s.data ?? s.table} · begun <Ago at={j.begun_at} /> by {j.by}
            </>
          )
        }
      >
        {may && going && (
          <FormSheet title={`Stop ${j.id}`} trigger={<Button>Stop it</Button>}>
            {(done) => <StopForm job={j} done={done} />}
          </FormSheet>
        )}
        {may && (j.state === 'stopped' || j.state === 'failed') && !j.forgotten && (
          <Button look="go" disabled={resume.isPending} onClick={() => resume.mutate()}>
            Take it up again
          </Button>
        )}
      </PageHead>
      {!!resume.error && <Problem error={resume.error} />}
      <Panel title="How far it is">
        <JobProgress job={j} />
        {j.reason && <p className="text-bad mt-2 text-[13.5px]">{`${j.state}: ${j.reason}`}</p>}
      </Panel>
      {j.replaying && <Replayed job={j} of={j.replaying} />}
      {j.evaluating && <Judged job={j} judged={j.evaluating} />}
      {j.checking && <Checked job={j} of={j.checking} />}
      {j.robustness && <Troubled job={j} of={j.robustness} />}
      {j.importance && <Relied job={j} of={j.importance} />}
      {may && !j.checking && !j.robustness && !j.importance && !j.forgotten && j.progress.answered > 0 && (
        <Found job={j} what="answers" title="Answers" />
      )}
      {may && !j.forgotten && j.progress.put_aside > 0 && (
        <Found job={j} what="put-aside" title="Rows that were put aside" />
      )}
      {j.forgotten && (
        <Panel title="Answers">
          <Empty>What it found is not kept any more.</Empty>
        </Panel>
      )}
      {s && (
        <Panel title="What it does">
          <Facts
            empty=""
            rows={[
              ['asks', s.version],
              ['asked for as', s.asked],
              ['a turn of', j.schedule ?? 'no schedule'],
              ['in', s.environment ?? 'a process that was started for it'],
              ['table', `${s.table}, ${bytes(s.size)}`],
              ['sha256', <code key="digest">{s.digest}</code>],
              ['beside the answers', s.keep.join(', ') || 'nothing of the table'],
              ['rows of a request', `${s.batch}, ${s.parallel} requests under way`],
            ]}
          />
        </Panel>
      )}
      <ActivityPanel subject={j.id} />
    </>
  )
}

/** What the answers were held against, and the report. */
function Judged({ job: j, judged: e }: { job: Job; judged: NonNullable<Job['evaluating']> }) {
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

/** As whose callers a version is put to trouble, and the report. */
function Troubled({ job: j, of: r }: { job: Job; of: NonNullable<Job['robustness']> }) {
  return (
    <Panel title="Put to trouble">
      <p className="text-[13.5px]">
        {count(r.rows)} rows are drawn like those of <Ref to={r.like} />, and asked when things are not as they should
        be. <Report job={j} id={r.evidence} when="all troubles are through" />
      </p>
    </Panel>
  )
}

/** How it is found out on which inputs a version relies, and the report. */
function Relied({ job: j, of: i }: { job: Job; of: NonNullable<Job['importance']> }) {
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
function Checked({ job: j, of: c }: { job: Job; of: NonNullable<Job['checking']> }) {
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
function Replayed({ job: j, of: r }: { job: Job; of: NonNullable<Job['replaying']> }) {
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

function StopForm({ job: j, done }: { job: Job; done: () => void }) {
  const [why, setWhy] = useState('')
  const stop = useStopJob(j.id)
  return (
    <Form
      submit="Stop it"
      pending={stop.isPending}
      error={stop.error}
      onSubmit={() => stop.mutate(why, { onSuccess: done })}
    >
      <p className="text-[13.5px]">What was answered stays, and it can be taken up again where it is.</p>
      <TextField label="Why" name="why" autoFocus value={why} onChange={setWhy} />
    </Form>
  )
}
