/** What stands in a tensor of the Open Inference Protocol. */
export type Value = number | boolean | string | null

export interface Tensor {
  name: string
  datatype: string
  shape: number[]
  data: Value[]
}

/** One row: a value for each part of each input, by its key. */
export type TryRow = Record<string, Value>

/** One value of a row: an input, or a part of one that has several. */
export interface Part {
  key: string
  input: string
  datatype: string
}

const flat = (data: unknown): Value[] => (Array.isArray(data) ? (data as unknown[]).flat(Infinity) : []) as Value[]

/** The tensors of a request or an answer. */
export function tensorsOf(message: unknown, side: 'inputs' | 'outputs'): Tensor[] {
  const list = (message as Record<string, unknown> | undefined)?.[side]
  return Array.isArray(list) ? (list as Tensor[]).map((t) => ({ ...t, data: flat(t.data) })) : []
}

const rowsIn = (t: Tensor) => Math.max(1, t.shape[0] ?? 1)

/** How many values a row of a tensor has. */
export const widthOf = (t: Tensor) => Math.max(1, Math.round(t.data.length / rowsIn(t)))

const keyOf = (t: Tensor, part: number) => (widthOf(t) === 1 ? t.name : `${t.name}[${part}]`)

/** What a row of a request is made of. */
export const partsOf = (inputs: Tensor[]): Part[] =>
  inputs.flatMap((t) =>
    Array.from({ length: widthOf(t) }, (_, i) => ({ key: keyOf(t, i), input: t.name, datatype: t.datatype })),
  )

/** The first row of a request. */
export const firstRow = (inputs: Tensor[]): TryRow =>
  Object.fromEntries(inputs.flatMap((t) => t.data.slice(0, widthOf(t)).map((v, i) => [keyOf(t, i), v] as const)))

/** A request like another, with other rows. */
export function requestOf(inputs: Tensor[], rows: TryRow[]): { inputs: Tensor[] } {
  return {
    inputs: inputs.map((t) => ({
      name: t.name,
      datatype: t.datatype,
      shape: [rows.length, ...t.shape.slice(1)],
      data: rows.flatMap((r) => Array.from({ length: widthOf(t) }, (_, i) => r[keyOf(t, i)] ?? null)),
    })),
  }
}

const whole = (datatype: string) => /^U?INT/.test(datatype)

/** What is written in a field, as a value of its datatype; undefined where it is none. An empty field is missing. */
export function valueOf(text: string, datatype: string): Value | undefined {
  const t = text.trim()
  if (datatype === 'BYTES') return text
  if (t === '' || t === 'null') return null
  if (datatype === 'BOOL') return t === 'true' ? true : t === 'false' ? false : undefined
  const x = Number(t)
  return Number.isFinite(x) && (!whole(datatype) || Number.isInteger(x)) ? x : undefined
}

/** Rows of CSV with a head that names some parts; the others are as in a row that is given. */
export function rowsOfCSV(text: string, parts: Part[], like: TryRow): TryRow[] | string {
  const lines = text
    .trim()
    .split(/\r?\n/)
    .map((l) => l.split(/[,;\t]/).map((c) => c.trim().replace(/^"(.*)"$/, '$1')))
  const head = lines[0] ?? []
  const unknown = head.filter((h) => !parts.some((p) => p.key === h))
  if (unknown.length > 0)
    return `The head names ${unknown.join(', ')}, which is no input; inputs are ${parts.map((p) => p.key).join(', ')}.`
  if (lines.length < 2) return 'Write a head with names of inputs, and rows below it.'
  const rows: TryRow[] = []
  for (const [i, line] of lines.slice(1).entries()) {
    const row = { ...like }
    for (const [k, name] of head.entries()) {
      const part = parts.find((p) => p.key === name)
      const value = part && valueOf(line[k] ?? '', part.datatype)
      if (value === undefined) {
        return `Row ${i + 1}: “${line[k] ?? ''}” is no ${part?.datatype ?? 'value'} for ${name}.`
      }
      row[name] = value
    }
    rows.push(row)
  }
  return rows
}

/** What an answer says of one row: each output's name with its values. */
export const answerOf = (answer: unknown, row: number) =>
  tensorsOf(answer, 'outputs').map((t) => {
    const n = widthOf(t)
    return { name: t.name, values: t.data.slice(row * n, (row + 1) * n) }
  })

/** A value as it stands in a field. */
export const textOf = (v: Value | undefined) => (v === null || v === undefined ? '' : String(v))
