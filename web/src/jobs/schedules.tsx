import { usePauseSchedule, useSchedules, useTurnNow, type Schedule } from '../api/jobs'
import { useMay } from '../api/people'
import { exact } from '../ui/format'
import { Ago, Empty, LinkButton, Loaded, Panel, Problem, Ref, Tag, To } from '../ui/parts'
import { TableHead } from '../ui/table-head'

const tone = {
  trying: 'trial',
  begun: 'trial',
  done: 'main',
  failed: 'bad',
  stopped: 'quiet',
  skipped: 'quiet',
} as const

/** What is scored again and again: when, how the last turns went, and when it is due next. */
export function Schedules() {
  const schedules = useSchedules()
  return (
    <Panel title="Again and again">
      <Loaded query={schedules}>
        {(list) =>
          list.items.length === 0 ? (
            <Empty command={'innerladder schedule nightly "15 2 * * *" score demand-hourly -from ADDRESS'}>
              Nothing is scored again and again yet:
            </Empty>
          ) : (
            <div className="overflow-x-auto">
              <table className="w-full text-[13px]">
                <TableHead columns={['schedule', 'at', 'asks', 'rows', 'next', 'last turns', '']} />
                <tbody>
                  {list.items.map((s) => (
                    <Line key={s.name} schedule={s} />
                  ))}
                </tbody>
              </table>
            </div>
          )
        }
      </Loaded>
    </Panel>
  )
}

function Line({ schedule: s }: { schedule: Schedule }) {
  const may = useMay('inspect', s.project)
  const pause = usePauseSchedule(s.name)
  const now = useTurnNow(s.name)
  const error = pause.error ?? now.error
  return (
    <tr className="border-line border-t align-top *:py-1.5 *:pr-4">
      <td className="font-medium">{s.name}</td>
      <td>
        <code>{s.cron}</code>
        <div className="text-ink-2">{s.zone}</div>
      </td>
      <td>
        {s.score.asked.includes('@') ? (
          <Ref to={s.score.asked} />
        ) : (
          <To to={`/endpoints/${s.score.asked}`}>{s.score.asked}</To>
        )}
      </td>
      <td className="max-w-[28ch] break-all">{s.score.from ?? s.score.data}</td>
      <td>{s.next ? <time dateTime={s.next}>{exact(new Date(s.next)).slice(0, 16)} UTC</time> : 'rests'}</td>
      <td>
        {s.turns.length === 0 && 'none yet'}
        {s.turns.slice(0, 3).map((t) => (
          <div key={t.due}>
            <Tag tone={tone[t.state]}>{t.state}</Tag> {t.job && <To to={`/models/jobs/${t.job}`}>{t.job}</To>}{' '}
            <span className="text-ink-2">
              <Ago at={t.due} /> {t.why}
            </span>
          </div>
        ))}
      </td>
      <td className="text-right whitespace-nowrap">
        {may && (
          <span className="inline-flex gap-3">
            <LinkButton onClick={() => now.mutate()}>now</LinkButton>
            <LinkButton onClick={() => pause.mutate(!s.paused)}>{s.paused ? 'go on' : 'pause'}</LinkButton>
          </span>
        )}
        {!!error && <Problem error={error} />}
      </td>
    </tr>
  )
}
