import { Check, X } from 'lucide-react'

import type { ShownRollout } from '../api/rollouts'
import { classes } from '../ui/classes'
import { count, share, short, signalText } from '../ui/format'
import { lasting, seconds } from './words'

interface Stage {
  key: string
  name: string
  share: number
  asks: string
  state: 'passed' | 'now' | 'to come' | 'left'
}

/** The steps of a plan with what each asks for, and which of them the rollout has passed. */
function stagesOf(o: ShownRollout): Stage[] {
  if (o.plan.kind === 'shadow' || o.plan.kind === 'comparison') return [onlyStage(o)]
  const steps = o.plan.steps ?? []
  const last = steps.length
  const at =
    o.phase === 'waiting' || o.phase === 'refused'
      ? -1
      : o.phase === 'stepping'
        ? o.step
        : o.phase === 'warming'
          ? 0
          : o.phase === 'baking'
            ? Math.max(1, last)
            : o.phase === 'finished'
              ? Math.max(1, last) + 1
              : lastReached(o)
  const state = (i: number): Stage['state'] =>
    i < at ? 'passed' : i > at ? 'to come' : o.ended_at && o.phase !== 'finished' ? 'left' : 'now'
  const before =
    o.plan.kind === 'blue_green'
      ? [
          {
            key: 'warm',
            name: 'warm',
            share: 0,
            asks: `${o.plan.warm ?? 0} ${o.plan.copies.share ? 'copies' : 'sample requests'}`,
            state: state(0),
          },
        ]
      : steps.map((s, i) => ({
          key: String(i),
          name: share(s.share),
          share: s.share,
          asks: asks(s.time, s.requests),
          state: state(i),
        }))
  return [
    ...before,
    {
      key: 'bake',
      name: share(10_000),
      share: 10_000,
      asks: `bakes ${asks(o.plan.bake.time, o.plan.bake.requests)}; ${short(o.incumbent)} ${
        o.plan.bake.copies.share ? `gets copies of ${share(o.plan.bake.copies.share)}` : 'stays warm'
      }`,
      state: state(before.length),
    },
  ]
}

const asks = (time?: string, requests?: number) =>
  [time && seconds(time) > 0 && lasting(time), requests && `${count(requests)} requests`].filter(Boolean).join(', ')

/** The only stage of a shadow, or of a comparison. */
function onlyStage(o: ShownRollout): Stage {
  const { copies, compare } = o.plan
  const state =
    o.phase === 'copying' || o.phase === 'comparing'
      ? 'now'
      : o.phase === 'waiting'
        ? 'to come'
        : o.phase === 'finished'
          ? 'passed'
          : 'left'
  if (o.plan.kind === 'comparison') {
    const most = lasting(compare.most ?? '0s')
    return {
      key: 'compare',
      name: share(compare.share ?? 0),
      share: compare.share ?? 0,
      asks: `until ${signalText(compare.signal ?? '')} is decided, ${most} at most`,
      state,
    }
  }
  return {
    key: 'copies',
    name: `copies of ${share(copies.share ?? 0)}`,
    share: copies.share ?? 0,
    asks: `${asks(copies.time, copies.requests)}; ${short(o.candidate)} answers nobody`,
    state,
  }
}

/** The stage from which a rollout went back. */
function lastReached(o: ShownRollout): number {
  const last = o.decisions.findLast((d) => d.phase === 'stepping' || d.phase === 'baking' || d.phase === 'warming')
  if (!last) return -1
  return last.phase === 'baking' ? Math.max(1, (o.plan.steps ?? []).length) : last.step
}

const looks = {
  passed: 'border-main bg-main-soft border-[1.5px]',
  now: 'border-trial-line hatched border-[1.5px]',
  left: 'border-bad bg-bad-soft border-[1.5px]',
  'to come': 'border-line-strong border-[1.5px] border-dashed',
} as const

/** The plan as steps that climb, with where the rollout is. */
export function RolloutWay({ rollout: o }: { rollout: ShownRollout }) {
  return (
    <ol className="flex items-end gap-1" aria-label="The steps of the plan">
      {stagesOf(o).map((s) => (
        <li
          key={s.key}
          className="max-w-[520px] min-w-0 flex-1"
          data-stage={s.state}
          aria-current={s.state === 'now' && 'step'}
        >
          <div
            aria-hidden
            className={classes('rounded-lg', looks[s.state])}
            // The root keeps a step of 1 % in sight beside one of 50 %.
            style={{ height: 16 + 76 * Math.sqrt(s.share / 10_000) }}
          />
          <div className={classes('mt-1.5 h-14 text-[13px]', s.state === 'to come' && 'text-ink-3')}>
            <b className="text-[14px]">{s.name}</b>{' '}
            {s.state === 'passed' && (
              <span className="text-main inline-flex items-center gap-0.5">
                <Check size={13} aria-hidden /> passed
              </span>
            )}
            {s.state === 'left' && (
              <span className="text-bad inline-flex items-center gap-0.5">
                <X size={13} aria-hidden /> left from here
              </span>
            )}
            {s.state === 'now' && <span className="text-trial">{o.held ? 'held here' : 'is here'}</span>}
            <div className={s.state === 'to come' ? '' : 'text-ink-2'}>{s.asks}</div>
          </div>
        </li>
      ))}
    </ol>
  )
}
