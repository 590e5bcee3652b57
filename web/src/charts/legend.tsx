import type { ReactNode } from 'react'

/** How a line is drawn; name is what it is called. */
export interface Stroke {
  name: string
  stroke: string
  dash?: string
}

/** What the lines of a chart are, each with its stroke, and what else is to be said below or above it. */
export function Legend({
  lines,
  beside,
  after,
  children,
}: {
  lines: Stroke[]
  /** Stands before the lines. */
  children?: ReactNode
  /** Stands behind the name of a line. */
  beside?: (line: Stroke, i: number) => ReactNode
  /** Stands after the lines. */
  after?: ReactNode
}) {
  return (
    <figcaption className="text-ink-2 my-1 flex flex-wrap gap-x-4 text-[12.5px]">
      {children}
      {lines.map((l, i) => (
        <span key={l.name} className="inline-flex items-center gap-1.5">
          <svg width="22" height="6" aria-hidden>
            <path d="M0 3H22" strokeWidth="2" stroke={l.stroke} strokeDasharray={l.dash} />
          </svg>
          {l.name}
          {beside?.(l, i)}
        </span>
      ))}
      {after}
    </figcaption>
  )
}
