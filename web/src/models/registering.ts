import { useReducer, useState } from 'react'
import type { Registration, Version } from '../api/client'
import { look, upload, type Part } from '../api/uploads'
import { itemsIn } from '../ui/format'
import { type Chosen } from './chosen-files'
import { partOf } from './file-parts'

export type Column = NonNullable<Version['signature']>['inputs'][number]

/** A column as it is edited: what it is, and on which side it stands. */
export interface EditedColumn {
  column: Column
  output: boolean
}

/** A metric as it is typed; better is empty where its name says which way that is. */
export interface MetricRow {
  name: string
  value: string
  unit: string
  better: '' | 'lower' | 'higher'
}

export const noMetric: MetricRow = { name: '', value: '', unit: '', better: '' }

/** What somebody has said of a version that is to be registered, as they typed it. */
export interface Draft {
  model: string
  project: string
  description: string
  note: string
  metrics: MetricRow[]
  params: string
  tags: string
  parent: string
  relation: string
  data: string
  run: string
  from: string
  tolerance: string
  /** The columns once they were edited; those that were read off the files until then. */
  columns?: EditedColumn[]
}

export const useDraft = (model: string) =>
  useReducer((draft: Draft, change: Partial<Draft>) => ({ ...draft, ...change }), {
    model,
    project: '',
    description: '',
    note: '',
    metrics: [noMetric],
    params: '',
    tags: '',
    parent: '',
    relation: 'fine-tuned',
    data: '',
    run: '',
    from: '',
    tolerance: '',
  })

/** NAME=VALUE, one a line. A line that is neither empty nor that is said, not left out. */
const pairs = (what: string, text: string) =>
  text
    .split(/\n/)
    .map((l) => l.trim())
    .filter(Boolean)
    .map((l) => {
      const at = l.indexOf('=')
      if (at < 1) throw new Error(`${what}: “${l}” is not NAME=VALUE`)
      return [l.slice(0, at).trim(), l.slice(at + 1).trim()] as const
    })

/** What is no number must not become 0, which would be the best of errors. */
function numberOf(what: string, text: string): number {
  const x = Number(text)
  if (text.trim() === '' || !Number.isFinite(x))
    throw new Error(`${what} is “${text}”, which is no number; write it with a point, such as 0.38`)
  return x
}

const namedRows = (rows: MetricRow[]) =>
  rows
    .filter((r) => r.name.trim() || r.value.trim())
    .map((r) => {
      if (!r.name.trim()) throw new Error(`Metrics: ${r.value} has no name`)
      return { ...r, name: r.name.trim() }
    })

const meaningsOf = (rows: MetricRow[]): Registration['metric_meanings'] =>
  Object.fromEntries(
    rows
      .filter((r) => r.unit.trim() || r.better)
      .map((r) => [r.name, { ...(r.unit.trim() && { unit: r.unit.trim() }), ...(r.better && { better: r.better }) }]),
  )

/**
 * What is said about the columns. Outputs and units of a sample go by themselves, so that the model file
 * still says the exact types; whoever says otherwise what a column is has written the signature by hand.
 */
function columnsOf(edited: EditedColumn[] | undefined, read: EditedColumn[], sampled: boolean): Partial<Registration> {
  if (!edited) return {}
  const same = edited.every(({ column: c }) => {
    const was = read.find((r) => r.column.name === c.name)?.column
    return was && was.type === c.type && was.nullable === c.nullable
  })
  const named = (output: boolean) => edited.filter((e) => e.output === output).map((e) => e.column)
  if (sampled && same && edited.length === read.length)
    return {
      targets: named(true).map((c) => c.name),
      units: Object.fromEntries(edited.flatMap(({ column: c }) => (c.unit ? [[c.name, c.unit]] : []))),
    }
  return { signature: { inputs: named(false), outputs: named(true) } }
}

/**
 * The call that registers a draft with files that were uploaded. read is what they say of the
 * columns; known says that the model is there already.
 */
export function registrationOf(d: Draft, files: Chosen[], read: EditedColumn[], known: boolean): Registration {
  const rows = namedRows(d.metrics)
  return {
    model: d.model.trim(),
    note: d.note,
    metrics: Object.fromEntries(rows.map((r) => [r.name, numberOf(`The metric ${r.name}`, r.value)])),
    metric_meanings: meaningsOf(rows),
    params: Object.fromEntries(pairs('Parameters', d.params)),
    ...columnsOf(
      d.columns,
      read,
      files.some((f) => f.part === 'sample'),
    ),
    tags: itemsIn(d.tags),
    data: d.data ? [{ data: d.data, role: 'trained-on' }] : [],
    parents: d.parent ? [{ version: d.parent, relation: d.relation }] : [],
    uploads: files.filter((f) => f.id).map((f) => ({ id: f.id ?? '', part: f.part, name: f.file.name })),
    sources: d.from.trim() ? [{ address: d.from.trim() }] : [],
    ...(d.tolerance.trim() && { tolerance: numberOf('The tolerance', d.tolerance) }),
    ...(d.run && { run: d.run }),
    ...(!known && { ...(d.project && { project: d.project }), description: d.description }),
  }
}

let keys = 0

/** The files that were chosen: each is uploaded at once, and read for what can be read off it. */
export function useChosenFiles() {
  const [files, setFiles] = useState<Chosen[]>([])
  const change = (key: number, to: Partial<Chosen>) =>
    setFiles((before) => before.map((f) => (f.key === key ? { ...f, ...to } : f)))
  const readOff = async (chosen: Chosen, id: string, part: Part, targets: string[]) => {
    try {
      change(chosen.key, { looked: await look(id, part, targets), error: undefined })
    } catch (problem) {
      change(chosen.key, { looked: undefined, error: problem })
    }
  }
  return {
    files,
    add: (list: FileList | null) => {
      for (const file of list ?? []) {
        const chosen: Chosen = { key: keys++, file, part: partOf(file.name), share: 0 }
        setFiles((before) => [...before, chosen])
        upload(file, (share) => change(chosen.key, { share }))
          .then((up) => {
            change(chosen.key, { id: up.id, share: 1 })
            return readOff(chosen, up.id, chosen.part, [])
          })
          .catch((problem: unknown) => change(chosen.key, { error: problem }))
      }
    },
    leaveOut: (chosen: Chosen) => setFiles((before) => before.filter((x) => x.key !== chosen.key)),
    /** Says what a file is, or which of its columns are outputs, and reads it anew as that. */
    readAs: (chosen: Chosen, part: Part, targets: string[]) => {
      change(chosen.key, { part })
      if (chosen.id) void readOff(chosen, chosen.id, part, targets)
    },
  }
}
