import type { ColumnDrift } from '../api/client'

/** A PSI as large as this is drawn as high as there is room. */
const most = 0.5

/** How far a column was in each step of time, in a line of bars; a step that tells too little is a dot. */
export function Sparks({ points }: { points: ColumnDrift['points'] }) {
  const title = points.map((p) => `${p.at.slice(11, 16)} ${p.effect.toFixed(3)}`).join(', ')
  return (
    <svg width={points.length * 5} height={18} role="img" aria-label={`over time: ${title}`}>
      {points.map((p, i) => {
        const height = Math.max(1.5, Math.min(1, Math.max(0, p.effect) / most) * 17)
        return p.verdict === 'not enough to tell' ? (
          <circle key={p.at} cx={i * 5 + 2} cy={16} r={1} fill="var(--ink-3)" />
        ) : (
          <rect
            key={p.at}
            x={i * 5}
            y={18 - height}
            width={4}
            height={height}
            fill={p.verdict === 'moved' ? 'var(--bad)' : p.verdict === 'look' ? 'var(--trial-line)' : 'var(--main)'}
          />
        )
      })}
    </svg>
  )
}
