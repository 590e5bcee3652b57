import type { Report } from '../api/incidents'
import { Outcome } from '../requests/outcome'
import { count } from '../ui/format'
import { To } from '../ui/parts'

const callers = (n: number) => `${count(n)} ${n === 1 ? 'caller' : 'callers'}`

/** Whom a rollback concerns: how many answers and callers, and some of the requests. */
export function Touched({ report: r }: { report: Report }) {
  return (
    <>
      <h2 className="mt-4">What was touched</h2>
      <p className="text-[13px]">
        {count(r.requests)} answers, of which {count(r.failed)} failed.{' '}
        {r.callers
          ? `About ${callers(r.callers)} got them, of those who give a name or a key.`
          : 'No caller gave a name or a key, so how many they were is not known.'}
      </p>
      {r.samples.length > 0 && (
        <ul className="mt-2 text-[13px]" aria-label="Some of its requests">
          {r.samples.map((s) => (
            <li key={s.request} className="border-line flex justify-between gap-4 border-t py-1.5 first:border-0">
              <To to={`/requests/${s.request}`}>{s.at.slice(11, 23)}</To>
              <span>
                <Outcome request={s} /> <span className="text-ink-2">{s.reason}</span>
              </span>
            </li>
          ))}
        </ul>
      )}
    </>
  )
}
