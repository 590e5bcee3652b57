/** What is kept of a message: its columns with their values, row after row. */
export type Columns = [name: string, values: unknown[]][]

interface Message {
  inputs?: { name?: string; data?: unknown }[]
  outputs?: { name?: string; data?: unknown }[]
}

/** The columns of a body of the Open Inference Protocol; none for another. */
export function columnsOf(body: unknown): Columns {
  const message = (typeof body === 'object' && body !== null ? body : {}) as Message
  const tensors = [message.inputs, message.outputs].flatMap((side) => (Array.isArray(side) ? side : []))
  return tensors
    .filter((t) => t.data !== undefined)
    .map((t) => [String(t.name), [t.data].flat(8)] as [string, unknown[]])
    .sort(([a], [b]) => a.localeCompare(b))
}

const value = (v: unknown): string =>
  v === null || v === undefined
    ? 'missing'
    : typeof v === 'number'
      ? String(Number(v.toPrecision(6)))
      : typeof v === 'string'
        ? v
        : JSON.stringify(v)

/** The first values of a column. */
export const values = (all: unknown[], most: number) =>
  all.slice(0, most).map(value).join(' ') + (all.length > most ? ' …' : '')

/** The first value of each column, in one line; some columns come first. */
export const brief = (body: unknown, first: string[] = []) =>
  columnsOf(body)
    .sort(([a], [b]) => Number(first.includes(b)) - Number(first.includes(a)))
    .map(([name, all]) => `${name} ${values(all, 1)}`)
    .join(', ')
