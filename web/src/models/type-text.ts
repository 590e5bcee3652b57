import type { Version } from '../api/client'
import { number } from '../ui/format'

type Column = NonNullable<Version['signature']>['inputs'][number]

function shapeText({ any_shape, shape = [], axes = [] }: Column): string {
  if (any_shape) return 'of any shape'
  return `[${shape.map((size, i) => axes[i] || (size < 0 ? 'any' : String(size))).join(', ')}]`
}

/** The exact type of a column in words, "sequence of FP32 [batch, 3]", or its family where only that is known. */
export function typeText(c: Column): string {
  const within = (c.within ?? []).map((w) => {
    if (w.kind === 'optional' || w.kind === 'sparse') return `${w.kind} `
    return w.key ? `${w.kind} by ${w.key} of ` : `${w.kind} of `
  })
  const rows = c.shape?.length ? `, shape [${c.shape.join(' ')}]` : ''
  return within.join('') + (c.datatype ? `${c.datatype} ${shapeText(c)}` : c.type + rows)
}

/** The levels or the range of a column, as they were seen or said. */
export const rangeText = (c: Column) =>
  c.levels?.join(' | ') ?? (c.min !== undefined && c.max !== undefined ? `${number(c.min)} to ${number(c.max)}` : '–')
