import { Check, FileUp, Trash2 } from 'lucide-react'
import { useState } from 'react'
import { useNavigate, useSearchParams } from 'react-router'

import { look, upload, useRegister, type Part } from '../api/uploads'
import type { LookedAt, Registration } from '../api/client'
import { useDataSets, useModels, useProjects, useRuns } from '../api/queries'
import { bytes, percent } from '../ui/format'
import { Choice } from '../ui/overlays'
import { Button, Field, inputLook, PageHead, Panel, Problem, Tag } from '../ui/parts'
import { SignatureTable } from './signature-table'

interface Chosen {
  key: number
  file: File
  part: Part
  share: number
  id?: string
  looked?: LookedAt
  error?: unknown
}

const parts: Record<Part, string> = {
  artifact: 'the model',
  sample: 'example rows',
  reference: 'rows of the reference profile',
  card: 'model card',
  requirements: 'packages it needs',
  attachment: 'attachment',
}

/** What a file is most likely for, by its name. */
function partOf(name: string): Part {
  const lower = name.toLowerCase()
  if (/\.(csv|parquet|jsonl|ndjson)$/.test(lower)) return 'sample'
  if (/\.(md|markdown)$/.test(lower)) return 'card'
  if (/requirements.*\.txt$/.test(lower)) return 'requirements'
  if (/\.(png|jpe?g|gif|webp|pdf|ipynb)$/.test(lower)) return 'attachment'
  return 'artifact'
}

let keys = 0

const pairs = (text: string) =>
  text
    .split(/\n/)
    .map((l) => l.trim())
    .filter((l) => l.includes('='))
    .map((l) => [l.slice(0, l.indexOf('=')).trim(), l.slice(l.indexOf('=') + 1).trim()] as const)

/** A form that reads the files first and fills in what it can. */
export function RegisterPage() {
  const [params] = useSearchParams()
  const navigate = useNavigate()
  const [files, setFiles] = useState<Chosen[]>([])
  const [targets, setTargets] = useState<string[]>([])
  const [model, setModel] = useState(params.get('model') ?? '')
  const [project, setProject] = useState('default')
  const [description, setDescription] = useState('')
  const [note, setNote] = useState('')
  const [metrics, setMetrics] = useState('')
  const [paramLines, setParamLines] = useState('')
  const [tags, setTags] = useState('')
  const [parent, setParent] = useState('')
  const [relation, setRelation] = useState('fine-tuned')
  const [data, setData] = useState('')
  const [run, setRun] = useState('')
  const [from, setFrom] = useState('')
  const register = useRegister()
  const [error, setError] = useState<unknown>()
  const models = useModels().data?.items ?? []
  const projects = useProjects().data?.items.map((p) => p.name) ?? ['default']
  const sets = useDataSets().data?.items ?? []
  const runs = useRuns(model || undefined).data?.items ?? []
  const vetted = models.filter((m) => m.vetted && m.newest > 0)
  const known = models.some((m) => m.name === model)
  const sample = files.find((f) => f.part === 'sample')
  const columns = sample?.looked?.signature
    ? [...(sample.looked.signature.inputs ?? []), ...(sample.looked.signature.outputs ?? [])]
    : []

  const change = (key: number, with_: Partial<Chosen>) =>
    setFiles((before) => before.map((f) => (f.key === key ? { ...f, ...with_ } : f)))

  const readOff = async (chosen: Chosen, id: string, part: Part, target: string[]) => {
    try {
      change(chosen.key, { looked: await look(id, part, target), error: undefined })
    } catch (problem) {
      change(chosen.key, { looked: undefined, error: problem })
    }
  }
  const add = (list: FileList | null) => {
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
  }
  const setPart = (chosen: Chosen, part: Part) => {
    change(chosen.key, { part })
    if (chosen.id) void readOff(chosen, chosen.id, part, targets)
  }
  const toggle = (column: string) => {
    const next = targets.includes(column) ? targets.filter((t) => t !== column) : [...targets, column]
    setTargets(next)
    if (sample?.id) void readOff(sample, sample.id, 'sample', next)
  }
  const send = async () => {
    setError(undefined)
    const spec: Registration = {
      model: model.trim(),
      note,
      metrics: Object.fromEntries(pairs(metrics).map(([k, v]) => [k, Number(v)])),
      params: Object.fromEntries(pairs(paramLines)),
      targets,
      tags: tags.split(/[\s,]+/).filter(Boolean),
      data: data ? [{ data, role: 'trained-on' }] : [],
      parents: parent ? [{ version: parent, relation }] : [],
      uploads: files.filter((f) => f.id).map((f) => ({ id: f.id ?? '', part: f.part, name: f.file.name })),
      sources: from.trim() ? [{ address: from.trim() }] : [],
    }
    if (run) spec.run = run
    if (!known) Object.assign(spec, { project, description })
    try {
      const made = await register.mutateAsync(spec)
      void navigate(`/models/${made.model}/versions/${made.number}`)
    } catch (problem) {
      setError(problem)
    }
  }
  const uploading = files.some((f) => !f.id && !f.error)
  return (
    <>
      <PageHead title="Register a version" sub="choose the files first; what can be read off them is filled in" />
      <form
        className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 xl:grid-cols-[minmax(0,1.2fr)_minmax(0,1fr)]"
        onSubmit={(event) => {
          event.preventDefault()
          void send()
        }}
      >
        <div className="grid min-w-0 gap-5">
          <Panel title="Files">
            <label
              className="border-line-strong text-ink-2 hover:border-main grid cursor-pointer place-items-center gap-1 rounded-md border-[1.5px] border-dashed px-4 py-6"
              onDragOver={(event) => event.preventDefault()}
              onDrop={(event) => {
                event.preventDefault()
                add(event.dataTransfer.files)
              }}
            >
              <FileUp size={20} aria-hidden />
              <span>
                Drop the model, example rows, a card, requirements, pictures here, or <u>choose</u>
              </span>
              <input
                type="file"
                multiple
                className="sr-only"
                aria-label="Files"
                onChange={(event) => add(event.target.files)}
              />
            </label>
            <ul className="mt-3 grid gap-3">
              {files.map((f) => (
                <li key={f.key} className="border-line border-t pt-2">
                  <div className="flex flex-wrap items-center gap-3">
                    <b className="min-w-0 truncate">{f.file.name}</b>
                    <span className="text-ink-2">{bytes(f.file.size)}</span>
                    {f.id ? (
                      <Check size={15} className="text-main" aria-label="uploaded" />
                    ) : (
                      !f.error && <span className="text-ink-2">{percent(f.share, 0)} sent</span>
                    )}
                    <span className="ml-auto flex items-center gap-2">
                      <Choice
                        label={`What ${f.file.name} is`}
                        value={f.part}
                        options={Object.entries(parts).map(([value, text]) => ({ value, text }))}
                        onChange={(p) => setPart(f, p as Part)}
                      />
                      <button
                        type="button"
                        className="text-ink-2 cursor-pointer"
                        aria-label={`Leave out ${f.file.name}`}
                        onClick={() => setFiles((before) => before.filter((x) => x.key !== f.key))}
                      >
                        <Trash2 size={15} />
                      </button>
                    </span>
                  </div>
                  {!!f.error && <Problem error={f.error} />}
                  {f.looked && <Looked looked={f.looked} />}
                </li>
              ))}
            </ul>
            <div className="mt-3">
              <Field label="Or an address that the service takes the model from">
                <input
                  className={inputLook}
                  placeholder="https://models.tarnholm.example/heat.onnx"
                  value={from}
                  onChange={(event) => setFrom(event.target.value)}
                />
              </Field>
            </div>
          </Panel>
          {columns.length > 0 && (
            <Panel title="Which columns are outputs?">
              <div className="flex flex-wrap gap-x-4 gap-y-1.5">
                {columns.map((c) => (
                  <label key={c.name} className="inline-flex items-center gap-1.5">
                    <input type="checkbox" checked={targets.includes(c.name)} onChange={() => toggle(c.name)} />{' '}
                    {c.name}
                  </label>
                ))}
              </div>
            </Panel>
          )}
        </div>
        <div className="grid min-w-0 gap-5">
          <Panel title="What it is">
            <div className="grid gap-4">
              <Field label="Model">
                <input
                  className={inputLook}
                  required
                  list="known-models"
                  placeholder="heat-demand"
                  value={model}
                  onChange={(event) => setModel(event.target.value)}
                />
                <datalist id="known-models">
                  {models.map((m) => (
                    <option key={m.name} value={m.name} />
                  ))}
                </datalist>
              </Field>
              {model && !known && (
                <>
                  <Field label="It is new. What is it about?">
                    <input
                      className={inputLook}
                      value={description}
                      onChange={(event) => setDescription(event.target.value)}
                    />
                  </Field>
                  {projects.length > 1 && (
                    <Field label="Project">
                      <Choice
                        label="Project"
                        value={project}
                        options={projects.map((p) => ({ value: p, text: p }))}
                        onChange={setProject}
                      />
                    </Field>
                  )}
                </>
              )}
              <Field label="Note">
                <input
                  className={inputLook}
                  placeholder="two winters, with the wind"
                  value={note}
                  onChange={(event) => setNote(event.target.value)}
                />
              </Field>
              <div className="grid grid-cols-2 gap-4">
                <Field label="Metrics, one NAME=VALUE a line">
                  <textarea
                    className={inputLook}
                    rows={3}
                    placeholder="rmse=0.38"
                    value={metrics}
                    onChange={(event) => setMetrics(event.target.value)}
                  />
                </Field>
                <Field label="Parameters, one NAME=VALUE a line">
                  <textarea
                    className={inputLook}
                    rows={3}
                    placeholder="depth=6"
                    value={paramLines}
                    onChange={(event) => setParamLines(event.target.value)}
                  />
                </Field>
              </div>
              <Field label="Tags, separated by spaces">
                <input className={inputLook} value={tags} onChange={(event) => setTags(event.target.value)} />
              </Field>
            </div>
          </Panel>
          <Panel title="What it was made from">
            <div className="grid gap-4">
              <Field label="Run, which gives metrics, parameters, code and data">
                <input
                  className={inputLook}
                  list="known-runs"
                  placeholder="run-12"
                  value={run}
                  onChange={(event) => setRun(event.target.value)}
                />
                <datalist id="known-runs">
                  {runs.map((r) => (
                    <option key={r.ref} value={r.ref} />
                  ))}
                </datalist>
              </Field>
              <Field label="Data set it was trained on">
                <input
                  className={inputLook}
                  list="known-data"
                  placeholder="winters-2024#1"
                  value={data}
                  onChange={(event) => setData(event.target.value)}
                />
                <datalist id="known-data">
                  {sets.map((d) => (
                    <option key={d.ref} value={d.ref} />
                  ))}
                </datalist>
              </Field>
              <div className="grid grid-cols-2 gap-4">
                <Field label="Parent version; vetted ones are offered">
                  <input
                    className={inputLook}
                    list="vetted"
                    placeholder="weather-base@1"
                    value={parent}
                    onChange={(event) => setParent(event.target.value)}
                  />
                  <datalist id="vetted">
                    {vetted.map((m) => (
                      <option key={m.name} value={`${m.name}@${m.newest}`}>
                        {m.vetted?.why}
                      </option>
                    ))}
                  </datalist>
                </Field>
                <Field label="How it was made from it">
                  <input className={inputLook} value={relation} onChange={(event) => setRelation(event.target.value)} />
                </Field>
              </div>
            </div>
          </Panel>
          {!!error && <Problem error={error} />}
          <div className="flex justify-end gap-3">
            <Button
              look="go"
              type="submit"
              disabled={register.isPending || uploading || !model.trim() || (files.length === 0 && !from.trim())}
            >
              {uploading ? 'Files are on their way…' : 'Register'}
            </Button>
          </div>
        </div>
      </form>
    </>
  )
}

/** What was read off a file, in short. */
function Looked({ looked: l }: { looked: LookedAt }) {
  const facts = l.contents?.facts?.slice(0, 6) ?? []
  return (
    <div className="mt-1.5 grid gap-1.5 text-[13px]">
      <div className="text-ink-2 flex flex-wrap gap-x-3 gap-y-1">
        {l.contents && <Tag tone={l.contents.unsafe ? 'bad' : 'quiet'}>{l.contents.format}</Tag>}
        {l.contents?.unsafe && <span className="text-bad">{l.contents.unsafe}</span>}
        {facts.map((f) => (
          <span key={f.name}>
            {f.name} {f.value.slice(0, 80)}
          </span>
        ))}
        {l.rows !== undefined && l.rows > 0 && (
          <span>
            {l.rows} rows{l.rows < 200 ? ', too few for a reference profile' : ''}
          </span>
        )}
        {l.card && (
          <span>
            {l.card.sections?.length ?? 0} sections{l.card.licence && `, licence ${l.card.licence}`}
          </span>
        )}
        {l.dependencies && <span>{l.dependencies.length} packages</span>}
        {l.remarks?.map((r) => (
          <span key={r}>{r}</span>
        ))}
      </div>
      {l.signature && <SignatureTable signature={l.signature} />}
    </div>
  )
}
