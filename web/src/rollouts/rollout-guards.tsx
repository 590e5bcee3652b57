import type { ShownRollout } from '../api/rollouts'
import { count, share, short, signalText } from '../ui/format'
import { isOver, response } from './words'

function allowed(g: ShownRollout['plan']['guards'][number]): string {
  const margin =
    g.signal === 'error_rate' || g.signal === 'timeout_rate' || g.signal === 'missing_outputs'
      ? `+${Number((g.margin * 100).toPrecision(3))} points`
      : g.signal === 'disagreement'
        ? `${Number((g.margin * 100).toPrecision(3))} % otherwise`
        : g.signal === 'prediction_drift'
          ? `a gap of ${g.margin}`
          : `+${g.margin} ms`
  return g.ratio && g.ratio > 1 ? `× ${g.ratio} or ${margin}` : margin
}

/** What the guards of its plan know of a rollout: what speaks against it, and what for it. */
export function GuardTable({ rollout: o }: { rollout: ShownRollout }) {
  const readings = o.guards.length > 0 ? o.guards : (o.decisions.at(-1)?.readings ?? [])
  return (
    <div className="overflow-x-auto">
      <table className="w-full text-[13px]">
        <thead className="text-ink-3 text-left text-[12px]">
          <tr>
            <th className="font-normal">guard</th>
            <th className="font-normal">allowed</th>
            <th className="font-normal">against it</th>
            <th className="font-normal">for it</th>
            <th className="font-normal">then</th>
          </tr>
        </thead>
        <tbody>
          {o.plan.guards.map((g) => {
            const r = readings.find((x) => x.signal === g.signal)
            const fired = (r?.progress ?? 0) >= 1
            return (
              <tr key={g.signal} className="border-line border-t align-top">
                <td className="py-1.5 pr-3 font-medium whitespace-nowrap">{signalText(g.signal)}</td>
                <td className="text-ink-2 py-1.5 pr-3 whitespace-nowrap">{allowed(g)}</td>
                <td className={fired ? 'text-bad py-1.5 pr-3 font-semibold' : 'py-1.5 pr-3'}>
                  {r ? (fired ? '✕ fired' : `${Math.round(r.progress * 100)} %`) : '–'}
                </td>
                <td className={r && r.enough >= 1 ? 'text-main py-1.5 pr-3 font-semibold' : 'py-1.5 pr-3'}>
                  {r ? (r.enough >= 1 ? '✓ shown good' : `${Math.floor(r.enough * 100)} %`) : '–'}
                </td>
                <td className="text-ink-2 py-1.5 whitespace-nowrap">{response(g.then, o.plan.kind === 'shadow')}</td>
              </tr>
            )
          })}
        </tbody>
      </table>
      <details className="text-ink-2 mt-1.5 text-[12.5px]">
        <summary className="cursor-pointer">in words</summary>
        <ul className="mt-1 grid gap-1">
          {readings.map((r) => (
            <li key={r.signal}>
              <b className="font-medium">{signalText(r.signal)}</b>: {short(o.candidate)} {r.sentence}
            </li>
          ))}
        </ul>
      </details>
    </div>
  )
}

/** The bad answers so far, of those that the plan allows. */
export function Harm({ rollout: o }: { rollout: ShownRollout }) {
  const { bad_answers: bad, bad_answers_allowed: allowed } = o.standing
  if (isOver(o) || o.plan.kind === 'shadow') return null
  const part = allowed > 0 ? Math.min(1, bad / allowed) : 0
  const cap = allowed > 0 ? `of ${count(allowed)} bad answers` : 'bad answers, without a cap'
  return (
    <div className="mt-4">
      <h2>Harm spent of harm allowed</h2>
      <div
        className="bg-line h-2.5 overflow-hidden rounded-full"
        role="meter"
        aria-label="Harm spent"
        aria-valuemin={0}
        aria-valuemax={100}
        aria-valuenow={Math.round(part * 100)}
      >
        <div
          className={`h-full ${part > 0.66 ? 'bg-bad' : 'bg-trial-line'}`}
          style={{ width: `${Math.max(part, bad > 0 ? 0.01 : 0) * 100}%` }}
        />
      </div>
      <div className="text-ink-2 mt-1 text-[13px]">
        {count(bad)} {cap} beyond those of {short(o.incumbent)}
        {o.plan.harm.share ? `; at most ${share(o.plan.harm.share)} before every guard has shown it good` : ''}
      </div>
    </div>
  )
}
