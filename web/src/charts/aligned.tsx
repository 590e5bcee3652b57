import { useState } from 'react'
import { ReferenceArea, ReferenceLine } from 'recharts'

import type { Series } from '../api/client'

/** What charts over the same time share: the span with its marks, one crosshair, and dragging to look closer. */
export interface Over {
  series: Series
  zoom: (from: number, to: number) => void
}

/** How wide the axis of values is, so that charts one below the other begin at the same place. */
export const valueWidth = 64

/** From when to when aligned charts go: from the minute in which something is known first. */
export function spanOf(s: Series): [number, number] {
  const known = [...s.lanes.flatMap((l) => l.points.slice(0, 1)), ...s.refused.slice(0, 1)].map((p) => Date.parse(p.at))
  const first = Math.floor(Math.min(...known, Date.parse(s.to)) / 60_000) * 60_000
  return [Math.max(Date.parse(s.from), first), Date.parse(s.to)]
}

/** Which of a chart's moments is nearest to the one under the pointer of another, whose steps may be longer. */
export function nearest(ticks: readonly { value?: unknown }[], under: { activeLabel?: unknown }): number {
  const at = Number(under.activeLabel)
  let best = -1
  ticks.forEach((t, i) => {
    const away = Math.abs(Number(t.value) - at)
    if (best < 0 || away < Math.abs(Number(ticks[best]?.value) - at)) best = i
  })
  return best
}

/** Dragging over a chart chooses a span of time: what the chart listens to, and the span as it is drawn meanwhile. */
export function useDrag(onZoom: ((from: number, to: number) => void) | undefined) {
  const [from, setFrom] = useState<number>()
  const [to, setTo] = useState<number>()
  const at = (label: unknown) => (label === undefined ? undefined : Number(label))
  const done = () => {
    if (onZoom && from !== undefined && to !== undefined && from !== to) onZoom(Math.min(from, to), Math.max(from, to))
    setFrom(undefined)
    setTo(undefined)
  }
  return {
    listens: onZoom && {
      onMouseDown: (e: { activeLabel?: unknown }) => setFrom(at(e.activeLabel)),
      onMouseMove: (e: { activeLabel?: unknown }) => from !== undefined && setTo(at(e.activeLabel)),
      onMouseUp: done,
    },
    area: from !== undefined && to !== undefined && (
      <ReferenceArea x1={Math.min(from, to)} x2={Math.max(from, to)} fill="var(--main-soft)" fillOpacity={0.6} />
    ),
  }
}

/** The splits and alerts that happened, so that cause and effect line up. */
export function marksOf(series: Series) {
  return [
    ...series.splits.map((s) => (
      <ReferenceLine
        key={s.number}
        x={new Date(s.made_at).getTime()}
        stroke="var(--ink-3)"
        strokeDasharray="2 3"
        label={{
          value: `#${s.number}`,
          position: 'insideTopLeft',
          dy: (s.number % 3) * 12,
          fontSize: 11,
          fill: 'var(--ink-2)',
        }}
      />
    )),
    ...series.alerts.map((a) => (
      <ReferenceLine
        key={a.id}
        x={new Date(a.raised_at).getTime()}
        stroke="var(--bad)"
        label={{ value: `✕ ${a.id}`, position: 'insideBottomLeft', fontSize: 11, fill: 'var(--bad)' }}
      />
    )),
  ]
}
