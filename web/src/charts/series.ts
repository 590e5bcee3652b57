import type { Series } from '../api/client'
import { short } from '../ui/format'
import { write, type Measure } from './measure'

/** What is drawn over time: a measure of each lane, or what the gateway turned away. */
export type Drawn = Measure | 'refused'

/** One line of a chart over time. */
export interface SeriesLine {
  id: string
  name: string
  stroke: string
  dash?: string
}

const shades = ['var(--main)', 'var(--ink-3)', 'var(--ink-2)', 'var(--line-strong)']

const lanes = (series: Series) => series.lanes.filter((l) => l.lane !== 'pinned')
const idOf = (l: { lane: string; version: string }) => `${l.lane} ${l.version}`

/** The lines of a series: one for each version, as main (solid), trial (dashed) or shadow (dotted) at the time. */
export function linesOf(series: Series, drawn: Drawn, main: string): SeriesLine[] {
  if (drawn === 'refused') return [{ id: 'refused', name: 'turned away', stroke: 'var(--bad)' }]
  const others = lanes(series).filter((l) => l.lane === 'main' && l.version !== main)
  return lanes(series).map((l) => {
    const line = { id: idOf(l), name: `${short(l.version)} ${l.lane}` }
    if (l.lane === 'trial') return { ...line, stroke: 'var(--trial-line)', dash: '5 3' }
    if (l.lane === 'shadow') return { ...line, stroke: 'var(--ink-3)', dash: '1 3' }
    const shade = l.version === main ? 0 : 1 + (others.findIndex((o) => o.version === l.version) % 3)
    return { ...line, stroke: shades[shade] ?? 'var(--main)' }
  })
}

/** A step of time, which ended at t, with the value of each line that has one. */
export type SeriesRow = Record<string, number> & { t: number }

/** One row for each step at the moment it ended: no effect stands before its cause; a missing step is a gap. */
export function rowsOf(series: Series, drawn: Drawn): SeriesRow[] {
  const byTime = new Map<number, SeriesRow>()
  // What came before the first request says nothing and only squeezes the rest.
  const points = [...lanes(series).flatMap((l) => l.points.slice(0, 1)), ...series.refused.slice(0, 1)]
  const first = Math.min(...points.map((p) => Date.parse(p.at)), Date.parse(series.to))
  const step = series.step_ms
  const from = Math.ceil(Math.max(first, Date.parse(series.from)) / step) * step
  for (let t = from; t < Date.parse(series.to) - step; t += step) {
    byTime.set(t, drawn === 'refused' ? { t: t + step, refused: 0 } : { t: t + step })
  }
  if (drawn === 'refused') {
    for (const p of series.refused) {
      const row = byTime.get(Date.parse(p.at))
      if (row) row['refused'] = (p.count * 1000) / step
    }
    return [...byTime.values()]
  }
  for (const l of lanes(series)) {
    for (const p of l.points) {
      const row = byTime.get(Date.parse(p.at))
      if (row) row[idOf(l)] = p[drawn]
    }
  }
  return [...byTime.values()]
}

/** How a value is written. */
export const writeDrawn = (drawn: Drawn) => (drawn === 'refused' ? write.rate : write[drawn])

/** All rows as CSV, with times in UTC. */
const cell = (text: string) => {
  const safe = /^[=+\-@\t\r]/.test(text) ? `'${text}` : text
  return /[",\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe
}

export function csvOf(rows: SeriesRow[], lines: SeriesLine[]): string {
  const head = ['time', ...lines.map((l) => cell(l.id))]
  return [head, ...rows.map((r) => [new Date(r.t).toISOString(), ...lines.map((l) => r[l.id] ?? '')])]
    .map((cells) => cells.join(','))
    .join('\n')
}
