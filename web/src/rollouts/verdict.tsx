import type { components } from '../api/schema'
import type { ShownRollout } from '../api/rollouts'
import { number, percent, short, signalText, words } from '../ui/format'
import { Panel, Tag } from '../ui/parts'

type Verdict = components['schemas']['Judgement']

const tones = { better: 'main', worse: 'bad', no_difference: 'main', undecided: 'trial' } as const

/** What a comparison says: the interval for the difference, against the margin within which it does not matter. */
export function VerdictPanel({ rollout: o, verdict: v }: { rollout: ShownRollout; verdict: Verdict }) {
  const margin = o.plan.compare.margin ?? 0
  // What is far outside of the margin is cut off at four times it.
  const reach = Math.max(2 * margin, Math.min(4 * margin, Math.max(Math.abs(v.low), Math.abs(v.high)) * 1.15))
  const at = (x: number) => 50 + (50 * Math.max(-reach, Math.min(reach, x))) / reach
  const left = at(v.low)
  const shares = v.unit === 'share'
  const write = (x: number) => (shares ? percent(x) : `${number(x)} ${v.unit}`.trim())
  return (
    <Panel
      title={`Does ${short(o.candidate)} do better in ${signalText(o.plan.compare.signal ?? '')}?`}
      aside={<Tag tone={tones[v.decision]}>{words(v.decision)}</Tag>}
    >
      <div
        className="relative h-12 max-w-[760px]"
        role="img"
        aria-label={`The difference is from ${write(v.low)} to ${write(v.high)}`}
        data-verdict={v.decision}
      >
        <div
          className="bg-main-soft absolute inset-y-0"
          style={{ left: `${at(-margin)}%`, width: `${at(margin) - at(-margin)}%` }}
        />
        <div className="bg-line-strong absolute inset-y-0 left-1/2 w-px" />
        <div
          className="bg-ink absolute top-1/2 h-1.5 -translate-y-1/2 rounded-full"
          style={{ left: `${left}%`, width: `${Math.max(0.5, at(v.high) - left)}%` }}
        />
        <div
          className="border-panel bg-trial-line absolute top-1/2 size-3.5 -translate-1/2 rounded-full border-2"
          style={{ left: `${at(v.candidate - v.incumbent)}%` }}
        />
      </div>
      <div className="text-ink-3 flex max-w-[760px] justify-between text-[12px]">
        <span>← less</span>
        <span>within {shares ? `${number(100 * margin)} points` : write(margin)} it does not matter</span>
        <span>more →</span>
      </div>
      <p className="mt-2">{v.sentence}</p>
      <p className="text-ink-2 text-[13px]">The interval holds at every moment, however often one looks.</p>
    </Panel>
  )
}
