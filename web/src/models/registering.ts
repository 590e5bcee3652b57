import { useReducer, useState } from 'react'
import type { Registration } from '../api/client'
import { look, upload, type Part } from '../api/uploads'
import { type Chosen } from './chosen-files'
import { partOf } from './file-parts'

/** What somebody has said of a version that is to be registered, as they typed it. */
export interface Draft {
  model: string
  project: string
  description: string
  note: string
  metrics: string
  params: string
  tags: string
  parent: string
  relation: string
  data: string
  run: string
  from: string
  targets: string[]
}

export const useDraft = (model: string) =>
  useReducer((draft: Draft, change: Partial<Draft>) => ({ ...draft, ...change }), {
    model,
    project: 'default',
    description: '',
    note: '',
    metrics: '',
    params: '',
    tags: '',
    parent: '',
    relation: 'fine-tuned',
    data: '',
    run: '',
    from: '',
    targets: [],
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

/** Metrics are numbers; what is none must not become 0, which would be the best of errors. */
const metricsOf = (text: string) =>
  Object.fromEntries(
    pairs('Metrics', text).map(([name, value]) => {
      const x = Number(value)
      if (value === '' || !Number.isFinite(x))
        throw new Error(`Metrics: ${name} is “${value}”, which is no number; write it with a point, such as 0.38`)
      return [name, x]
    }),
  )

/** The call that registers a draft with files that were uploaded; known says that the model is there already. */
export function registrationOf(d: Draft, files: Chosen[], known: boolean): Registration {
  return {
    model: d.model.trim(),
    note: d.note,
    metrics: metricsOf(d.metrics),
    params: Object.fromEntries(pairs('Parameters', d.params)),
    targets: d.targets,
    tags: d.tags.split(/[\s,]+/).filter(Boolean),
    data: d.data ? [{ data: d.data, role: 'trained-on' }] : [],
    parents: d.parent ? [{ version: d.parent, relation: d.relation }] : [],
    uploads: files.filter((f) => f.id).map((f) => ({ id: f.id ?? '', part: f.part, name: f.file.name })),
    sources: d.from.trim() ? [{ address: d.from.trim() }] : [],
    ...(d.run && { run: d.run }),
    ...(!known && { project: d.project, description: d.description }),
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
