import type { ColumnCounts } from '../api/client'
import { number, percent } from '../ui/format'

const steps = 32

const sum = (counts: number[]) => counts.reduce((a, b) => a + b, 0)

/** How dense the values lie over their range: bins of equal frequency are wide where there are few. */
function density(c: ColumnCounts): number[] {
  // Whole numbers stand on their values: the last cell reaches to the next.
  const whole = c.bins.edges?.every(Number.isInteger)
  const edges = (c.bins.edges ?? []).map((e, i, all) => (whole && i === all.length - 1 ? e + 1 : e))
  const low = edges[0] ?? 0
  const high = edges[edges.length - 1] ?? 0
  const width = (high - low) / steps || 1
  const out = Array.from({ length: steps }, () => 0)
  c.counts.forEach((n, i) => {
    const a = edges[i] ?? 0
    const b = edges[i + 1] ?? a
    for (let k = 0; k < steps; k++) {
      const overlap = Math.max(0, Math.min(b, low + (k + 1) * width) - Math.max(a, low + k * width))
      out[k] =
        (out[k] ?? 0) +
        (b > a ? (n * overlap) / (b - a) : k === Math.min(steps - 1, Math.floor((a - low) / width)) ? n : 0)
    }
  })
  return out
}

/** One column of a reference profile, small: numbers as a silhouette, categories as bars with their names. */
export function Distribution({ column: c }: { column: ColumnCounts }) {
  if (c.bins.edges?.length) {
    const d = density(c)
    const most = Math.max(...d, 1e-9)
    return (
      <svg
        viewBox={`0 0 ${steps * 6} 36`}
        className="block h-9 w-48"
        role="img"
        aria-label={`from ${number(c.min ?? 0)} to ${number(c.max ?? 0)}`}
      >
        {d.map((x, i) => (
          <rect
            key={i}
            x={i * 6}
            y={36 - (x / most) * 34}
            width={5}
            height={(x / most) * 34}
            fill="var(--main)"
            opacity={0.8}
          />
        ))}
        <path d={`M0 35.5H${steps * 6}`} stroke="var(--line-strong)" />
      </svg>
    )
  }
  const total = sum(c.counts) + (c.other ?? 0) || 1
  const levels = (c.bins.levels ?? []).map((name, i) => ({ name, share: (c.counts[i] ?? 0) / total }))
  return (
    <div className="grid w-56 gap-0.5 text-[12px]">
      {levels.slice(0, 5).map((l) => (
        <div key={l.name} className="grid grid-cols-[86px_1fr_44px] items-center gap-1.5">
          <span className="text-ink-2 truncate">{l.name}</span>
          <span className="bg-paper h-2">
            <span className="bg-main block h-2 opacity-80" style={{ width: `${l.share * 100}%` }} />
          </span>
          <span className="text-right">{percent(l.share, 0)}</span>
        </div>
      ))}
      {levels.length > 5 && <span className="text-ink-3">and {levels.length - 5} more levels</span>}
    </div>
  )
}
