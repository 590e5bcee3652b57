import { useState } from 'react'
import { useParams } from 'react-router'

import { ActivityPanel } from '../activity/activity-list'
import { useJob, useJobLog, useResumeJob, useStopJob, type Job } from '../api/jobs'
import { useMay } from '../api/people'
import { Form, FormSheet } from '../ui/form'
import { bytes, exact } from '../ui/format'
import { Ago, Button, Empty, Facts, Loaded, PageHead, Panel, Problem, Ref, TextField } from '../ui/parts'
import { Found } from './found'
import { JobProgress, JobState } from './progress'
import { Checked, Judged, Relied, Replayed, Disturbed } from './what-it-does'

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
      {j.robustness && <Disturbed job={j} of={j.robustness} />}
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
              ['table', s.size > 0 ? `${s.table}, ${bytes(s.size)}` : s.table],
              ...(s.digest ? ([['sha256', <code key="digest">{s.digest}</code>]] as const) : []),
              ...(j.evaluating || j.kind === 'score'
                ? ([
                    ['beside the answers', s.keep.join(', ') || 'nothing of the table'],
                    ['rows of a request', `${s.batch}, ${s.parallel} requests under way`],
                  ] as const)
                : []),
            ]}
          />
        </Panel>
      )}
      {may && !j.forgotten && <Log key={j.state} job={j} />}
      <ActivityPanel subject={j.id} />
    </>
  )
}

/** What it did and met, the last lines first in sight. */
function Log({ job: j }: { job: Job }) {
  const log = useJobLog(j)
  return (
    <Panel title="Log">
      <Loaded query={log}>
        {(list) =>
          list.items.length === 0 ? (
            <Empty>It has not begun.</Empty>
          ) : (
            <ol className="max-h-80 overflow-auto text-[13px]">
              {list.items.map((l, i) => (
                <li key={i} className="flex gap-3">
                  <span className="text-ink-2 whitespace-nowrap">{exact(new Date(l.at)).slice(11, 19)}</span>
                  <span className="min-w-0 break-words">{l.says}</span>
                </li>
              ))}
            </ol>
          )
        }
      </Loaded>
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
