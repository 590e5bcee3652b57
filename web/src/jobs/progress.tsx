import type { Job } from '../api/jobs'
import { count, percent } from '../ui/format'
import { Tag } from '../ui/parts'

const tone = { waiting: 'quiet', running: 'trial', done: 'main', stopped: 'quiet', failed: 'bad' } as const

export function JobState({ job: j }: { job: Job }) {
  return (
    <Tag tone={tone[j.state]}>
      {j.state}
      {j.state === 'running' && ` ${percent(j.progress.share, 0)}`}
    </Tag>
  )
}

/** How far a job is, as a bar with what stands behind it in words. */
export function JobProgress({ job: j }: { job: Job }) {
  const p = j.progress
  const rows = Math.max(1, p.rows)
  const unit = j.replaying ? 'requests' : j.checking ? 'cases' : j.robustness ? 'disturbances' : 'rows'
  return (
    <div className="grid gap-2">
      <div
        role="progressbar"
        aria-label={`${j.id} is done to`}
        aria-valuenow={Math.round(100 * p.share)}
        aria-valuemin={0}
        aria-valuemax={100}
        className="border-line-strong flex h-5 overflow-hidden rounded-md border"
      >
        <div className="bg-main" style={{ width: `${(100 * p.share * p.answered) / rows}%` }} />
        <div className="bg-bad" style={{ width: `${(100 * p.share * p.put_aside) / rows}%` }} />
      </div>
      <p className="text-[13.5px]">
        {percent(p.share, 0)} of the {unit}: {count(p.answered)} answered
        {unit === 'rows' && `, ${count(p.put_aside)} put aside`}
        {p.rate ? ` · ${count(p.rate)} ${unit} a second` : ''}
        {p.left_s ? ` · about ${left(p.left_s)} left` : ''}
      </p>
      {p.trouble && <p className="text-bad text-[13.5px]">It does not get on just now, and tries again: {p.trouble}</p>}
      {p.remarks?.map((r) => (
        <p key={r} className="text-ink-2 text-[13.5px]">
          {r}
        </p>
      ))}
    </div>
  )
}

const left = (s: number) =>
  s < 90 ? `${Math.ceil(s)} s` : s < 5400 ? `${Math.ceil(s / 60)} min` : `${Math.ceil(s / 3600)} h`
