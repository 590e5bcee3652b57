import type { EndpointNow } from '../api/client'
import { signalText } from '../ui/format'
import { response } from '../rollouts/words'
import { Ref } from '../ui/parts'

/** How near each guard is to rolling back, as a bar, a number and a sentence. */
export function GuardList({ now: { guards, lanes } }: { now: EndpointNow }) {
  const shadows = lanes.filter((l) => l.kind === 'shadow').map((l) => l.version)
  return (
    <ul className="grid gap-3">
      {guards.map((g) => {
        const progress = Math.min(1, g.progress)
        return (
          <li key={`${g.version} ${g.signal}`}>
            <div className="flex justify-between gap-4">
              <span className="font-medium">{signalText(g.signal)}</span>
              <span className="text-ink-2 text-[12.5px]">
                {g.enough >= 1
                  ? '✓ shown good'
                  : `${Math.round(progress * 100)} % of its limit, which ${response(g.then, shadows.includes(g.version))}`}
              </span>
            </div>
            <div
              className="bg-line my-1 h-1.5 overflow-hidden rounded-full"
              role="meter"
              aria-label={`${signalText(g.signal)}: evidence against it`}
              aria-valuemin={0}
              aria-valuemax={100}
              aria-valuenow={Math.round(progress * 100)}
            >
              <div
                className={`h-full rounded-full transition-[width] ${progress > 0.66 ? 'bg-bad' : 'bg-trial-line'}`}
                style={{ width: `${progress * 100}%` }}
              />
            </div>
            <div className="text-ink-2 text-[13px]">
              <Ref to={g.version} /> {g.sentence}
            </div>
          </li>
        )
      })}
    </ul>
  )
}
