import { useQuery } from '@tanstack/react-query'
import { Download } from 'lucide-react'
import { useState } from 'react'
import { useParams } from 'react-router'

import { ActivityPanel } from '../activity/activity-list'
import { foundAt, useJob, useResumeJob, useStopJob, type Job } from '../api/jobs'
import { useMay } from '../api/people'
import { Form, FormSheet } from '../ui/form'
import { bytes } from '../ui/format'
import { Ago, Button, Empty, Facts, Loaded, PageHead, Panel, Problem, Ref, TextField } from '../ui/parts'
import { TableHead } from '../ui/table-head'
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
      {may && !j.forgotten && j.progress.answered > 0 && <Found job={j} what="answers" title="Answers" />}
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

const shown = 10

/** The first rows of what a job found, with the files to fetch. */
function Found({ job: j, what, title }: { job: Job; what: 'answers' | 'put-aside'; title: string }) {
  return (
    <Panel
      title={title}
      aside={
        <span className="flex gap-3">
          {['csv', 'jsonl', 'parquet'].map((format) => (
            <a
              key={format}
              className="inline-flex items-center gap-1 underline underline-offset-3"
              href={foundAt(j.id, what, format)}
            >
              <Download size={13} aria-hidden /> {{ csv: 'CSV', jsonl: 'JSON lines', parquet: 'Parquet' }[format]}
            </a>
          ))}
        </span>
      }
    >
      <FirstRows job={j} what={what} />
    </Panel>
  )
}

function FirstRows({ job: j, what }: { job: Job; what: 'answers' | 'put-aside' }) {
  const ended = j.state !== 'waiting' && j.state !== 'running'
  const rows = useQuery({
    queryKey: ['first rows', j.id, what, ended],
    queryFn: ({ signal }) => firstLines(foundAt(j.id, what, 'jsonl'), signal),
  })
  return (
    <Loaded query={rows}>
      {(list) => {
        const columns = Object.keys(list[0] ?? {})
        return (
          <div className="overflow-x-auto">
            <table className="w-full text-[13px]">
              <TableHead columns={columns} />
              <tbody>
                {list.map((r, i) => (
                  <tr key={i} className="border-line border-t *:py-1 *:pr-4">
                    {columns.map((c) => (
                      <td key={c}>{cell(r[c])}</td>
                    ))}
                  </tr>
                ))}
              </tbody>
            </table>
            <p className="text-ink-2 mt-2 text-[12.5px]">The first {list.length}; all are in the files.</p>
          </div>
        )
      }}
    </Loaded>
  )
}

const cell = (v: unknown) =>
  v === null || v === undefined ? '–' : typeof v === 'number' ? String(Number(v.toPrecision(6))) : String(v as string)

/** The first lines of a file that may be of any size; the rest is not read. */
async function firstLines(url: string, signal: AbortSignal): Promise<Record<string, unknown>[]> {
  const response = await fetch(url, { signal })
  if (!response.ok || !response.body) throw new Error(`it cannot be read: status ${response.status}`)
  const reader = response.body.pipeThrough(new TextDecoderStream()).getReader()
  let text = ''
  for (;;) {
    const { done, value } = await reader.read()
    text += value ?? ''
    if (done || text.split('\n').length > shown) break
  }
  await reader.cancel()
  return text
    .split('\n')
    .slice(0, shown)
    .filter(Boolean)
    .map((line) => JSON.parse(line) as Record<string, unknown>)
}
