/** How axes look: their numbers, without lines. */
export const axis = { stroke: 'var(--ink-3)', fontSize: 12, tickLine: false, axisLine: false } as const

/** How the box under the pointer looks. */
export const box = { background: 'var(--panel)', border: '1px solid var(--line-strong)', borderRadius: 6 } as const

/** A moment on an axis, UTC, to the second. */
const second = (t: number) => new Date(t).toISOString().slice(11, 19)

/** An axis of moments, which rows have as t. */
export const timeAxis = {
  dataKey: 't',
  type: 'number',
  domain: ['dataMin', 'dataMax'],
  tickFormatter: second,
  minTickGap: 60,
  ...axis,
} as const
