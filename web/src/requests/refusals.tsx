import { useRefusals } from '../api/requests'
import { count } from '../ui/format'
import { Panel } from '../ui/parts'

/** What was turned away in the last day, by reason, hour by hour. */
export function Refusals({ endpoint }: { endpoint: string | undefined }) {
  const refused = useRefusals(endpoint, '24h').data
  if (!refused || refused.total === 0) return null
  const hours = Math.round((Date.parse(refused.to) - Date.parse(refused.from)) / refused.step_ms) + 1
  const highest = Math.max(...refused.items.flatMap((r) => r.points.map((p) => p.count)))
  return (
    <Panel title={`Turned away in the last day: ${count(refused.total)}`}>
      <ul>
        {refused.items.map((r) => (
          <li key={r.reason} className="border-line flex items-center gap-4 border-t py-1.5 first:border-0">
            <b className="w-16 shrink-0 text-right tabular-nums">{count(r.count)}</b>
            <span className="min-w-0 grow">
              {r.what} <span className="text-ink-3 text-[12.5px]">{r.reason}</span>
            </span>
            <svg
              width={hours * 7}
              height={20}
              className="text-bad shrink-0"
              role="img"
              aria-label={`by the hour: ${r.points.map((p) => `${p.at.slice(11, 16)} ${p.count}`).join(', ')}`}
            >
              <line x1={0} x2={hours * 7} y1={19.5} y2={19.5} stroke="currentColor" opacity={0.3} />
              {r.points.map((p) => {
                const at = Math.round((Date.parse(p.at) - Date.parse(refused.from)) / refused.step_ms)
                const height = Math.max(2, (18 * p.count) / highest)
                return (
                  <rect key={p.at} x={at * 7} y={19 - height} width={5} height={height} fill="currentColor">
                    <title>{`${p.at.slice(0, 16).replace('T', ' ')} UTC: ${p.count}`}</title>
                  </rect>
                )
              })}
            </svg>
          </li>
        ))}
      </ul>
    </Panel>
  )
}
