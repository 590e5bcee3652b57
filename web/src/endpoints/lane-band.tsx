import { Ban, CircleSlash } from 'lucide-react'

import type { LaneNow, RefusedNow } from '../api/client'
import { count, laneShare, ms, percent, short } from '../ui/format'
import { Ref, Tag } from '../ui/parts'

function Fact({ name, value, bad }: { name: string; value: string; bad?: boolean }) {
  return (
    <span className="whitespace-nowrap">
      {name}
      <b className={`ml-1 font-semibold ${bad ? 'text-bad' : 'text-ink'}`}>{value}</b>
    </span>
  )
}

function LaneBox({ lane, compact }: { lane: LaneNow; compact: boolean }) {
  const trial = lane.kind === 'trial'
  const shadow = lane.kind === 'shadow'
  const shown = lane.copies_shown
  // Of nothing there is no rate of errors and no latency.
  const now = (write: (x: number) => string, x: number) => (lane.rate > 0 ? write(x) : '–')
  return (
    <div
      data-lane={lane.kind}
      data-version={lane.version}
      style={{ flexGrow: Math.max(lane.share, 1), flexBasis: compact ? 92 : 168 }}
      className={`flex min-w-0 flex-col justify-between gap-1 overflow-hidden rounded-lg border-[1.5px] px-3.5 transition-[flex-grow] duration-700 ${compact || shadow ? 'py-2' : 'min-h-32 py-3'} ${
        shadow ? 'border-ink-3 border-dashed' : trial ? 'border-trial-line hatched' : 'border-main bg-main-soft'
      }`}
    >
      <div className="flex flex-wrap items-start justify-between gap-x-2">
        <div className="flex flex-wrap items-center gap-2 text-[15px] font-semibold">
          <Ref to={lane.version}>{trial || shadow || compact ? short(lane.version) : lane.version}</Ref>
          <Tag tone={trial ? 'trial' : shadow ? 'quiet' : 'main'}>{lane.kind}</Tag>
          {!lane.healthy && (
            <span className="text-bad inline-flex items-center gap-1 text-[12px]">
              <CircleSlash size={13} aria-hidden /> unhealthy
            </span>
          )}
        </div>
        <span
          className={`font-semibold tracking-tight ${compact || shadow ? 'text-[17px]' : 'text-[26px] leading-tight'}`}
        >
          {laneShare(lane)}
        </span>
      </div>
      <div className="text-ink-2 flex flex-wrap gap-x-4 text-[12.5px]">
        {!compact && <Fact name="requests" value={count(lane.requests)} />}
        <Fact name="rate" value={`${lane.rate.toFixed(lane.rate < 10 ? 1 : 0)}/s`} />
        <Fact name="errors" value={now(percent, lane.error_rate)} bad={lane.error_rate > 0.01} />
        {!compact && <Fact name="p50" value={now(ms, lane.p50_ms)} />}
        {!compact && <Fact name="p95" value={now(ms, lane.p95_ms)} />}
        <Fact name="p99" value={now(ms, lane.p99_ms)} />
        {shown && shown.requests > 0 && <Fact name="differ" value={percent(shown.disagreed / shown.requests)} />}
      </div>
    </div>
  )
}

/** What was turned away lately as a lane of its own: it is traffic, and nobody answered it. */
function RefusedBox({ refused }: { refused: RefusedNow[] }) {
  if (refused.length === 0) return null
  const all = refused.reduce((sum, r) => sum + r.count, 0)
  return (
    <div
      data-lane="refused"
      className={
        'border-bad bg-bad-soft flex flex-wrap items-baseline justify-between gap-x-4 ' +
        'rounded-lg border-[1.5px] border-dotted px-3.5 py-2'
      }
    >
      <span className="text-bad inline-flex items-center gap-1.5 font-semibold">
        <Ban size={14} aria-hidden /> turned away: {count(all)} in the last minute
      </span>
      <span className="text-ink-2 text-[12.5px]">{refused.map((r) => `${count(r.count)} ${r.what}`).join('; ')}</span>
    </div>
  )
}

/**
 * An endpoint as lanes: one band, each lane as wide as its share. Main is solid, trial hatched. Shadows are outlined
 * beneath it, as wide as the part of main of which they get copies. What was turned away is the last, dotted.
 */
export function LaneBand({
  lanes,
  refused = [],
  compact = false,
}: {
  lanes: LaneNow[]
  refused?: RefusedNow[] | undefined
  compact?: boolean
}) {
  return (
    <div className="grid gap-1" role="group" aria-label="Lanes">
      <div className="flex flex-wrap gap-1 sm:flex-nowrap">
        {lanes
          .filter((l) => l.kind !== 'shadow')
          .map((lane) => (
            <LaneBox key={lane.version} lane={lane} compact={compact} />
          ))}
      </div>
      {lanes
        .filter((l) => l.kind === 'shadow')
        .map((lane) => (
          <div key={lane.version} className="grid min-w-[min(100%,360px)]" style={{ width: `${lane.share / 100}%` }}>
            <LaneBox lane={lane} compact={compact} />
          </div>
        ))}
      <RefusedBox refused={refused} />
    </div>
  )
}
