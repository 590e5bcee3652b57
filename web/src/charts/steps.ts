import type { Distribution as Sides } from '../api/client'
import { number } from '../ui/format'

type Distribution = Pick<Sides, 'edges' | 'levels' | 'incumbent' | 'candidate' | 'whole'>

interface Step {
  name: string
  incumbent: number
  candidate: number
}

const steps = 24
const sum = (counts: number[]) => counts.reduce((a, b) => a + b, 0)

/**
 * The distribution in steps that can be drawn. Whole numbers stand in their bins. Other numbers are counted in bins of
 * unequal width, so each bin is spread over steps of equal width; what lies outside of the bins keeps a step of its own.
 */
export function drawnSteps(d: Distribution): Step[] {
  const a = sum(d.incumbent) || 1
  const b = sum(d.candidate) || 1
  const both = (i: number) => ({ incumbent: (d.incumbent[i] ?? 0) / a, candidate: (d.candidate[i] ?? 0) / b })
  if (!d.edges?.length) {
    const levels = [...(d.levels ?? []), 'other']
    return levels
      .map((name, i) => ({ name, ...both(i) }))
      .filter((s) => s.name !== 'other' || s.incumbent + s.candidate > 0)
  }
  const edges = d.edges
  const first = edges[0] ?? 0
  const last = edges[edges.length - 1] ?? 0
  const outside = (inside: Step[]) => {
    const below = both(0)
    const above = both(edges.length)
    if (below.incumbent + below.candidate > 0) inside.unshift({ name: `below ${number(first)}`, ...below })
    if (above.incumbent + above.candidate > 0) inside.push({ name: `above ${number(last)}`, ...above })
    return inside
  }
  if (d.whole) return outside(edges.slice(0, -1).map((low, i) => ({ name: wholeBin(edges, low, i), ...both(i + 1) })))
  const width = (last - first) / steps || 1
  const out: Step[] = Array.from({ length: steps }, (_, k) => ({
    name: String(Number((first + (k + 0.5) * width).toPrecision(3))),
    incumbent: 0,
    candidate: 0,
  }))
  for (let i = 0; i + 1 < edges.length; i++) {
    const low = edges[i] ?? 0
    const high = edges[i + 1] ?? low
    const bin = both(i + 1)
    for (let k = 0; k < steps; k++) {
      const overlap = Math.max(0, Math.min(high, first + (k + 1) * width) - Math.max(low, first + k * width))
      const part =
        high > low ? overlap / (high - low) : k === Math.min(steps - 1, Math.floor((low - first) / width)) ? 1 : 0
      const step = out[k]
      if (step) {
        step.incumbent += bin.incumbent * part
        step.candidate += bin.candidate * part
      }
    }
  }
  return outside(out)
}

/** The whole numbers of a bin: its upper edge begins the next one, but for the last. */
function wholeBin(edges: number[], low: number, i: number) {
  const upper = edges[i + 1] ?? low
  const high = i + 2 === edges.length ? upper : upper - 1
  return high <= low ? String(low) : `${low} to ${high}`
}
