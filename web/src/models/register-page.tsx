import { useState } from 'react'
import { useNavigate, useSearchParams } from 'react-router'
import { useModels } from '../api/queries'
import { useRegister } from '../api/uploads'
import { Button, PageHead, Panel, Problem, TextField } from '../ui/parts'
import { ChosenFile, DropZone } from './chosen-files'
import { MadeFrom, WhatItIs } from './register-fields'
import { registrationOf, useChosenFiles, useDraft } from './registering'

/** A form that reads the files first and fills in what it can. */
export function RegisterPage() {
  const [params] = useSearchParams()
  const navigate = useNavigate()
  const [draft, change] = useDraft(params.get('model') ?? '')
  const { files, add, leaveOut, readAs } = useChosenFiles()
  const register = useRegister()
  const [error, setError] = useState<unknown>()
  const known = !!useModels().data?.items.some((m) => m.name === draft.model)
  const sample = files.find((f) => f.part === 'sample')
  const columns = sample?.looked?.signature
    ? [...(sample.looked.signature.inputs ?? []), ...(sample.looked.signature.outputs ?? [])]
    : []

  const toggle = (column: string) => {
    const targets = draft.targets.includes(column)
      ? draft.targets.filter((t) => t !== column)
      : [...draft.targets, column]
    change({ targets })
    if (sample) readAs(sample, 'sample', targets)
  }
  const send = async () => {
    setError(undefined)
    try {
      const made = await register.mutateAsync(registrationOf(draft, files, known))
      void navigate(`/models/${made.model}/versions/${made.number}`)
    } catch (problem) {
      setError(problem)
    }
  }
  const uploading = files.some((f) => !f.id && !f.error)
  const nothing = !draft.model.trim() || (files.length === 0 && !draft.from.trim())
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
            <DropZone onAdd={add} />
            <ul className="mt-3 grid gap-3">
              {files.map((f) => (
                <ChosenFile
                  key={f.key}
                  file={f}
                  onPart={(part) => readAs(f, part, draft.targets)}
                  onLeaveOut={() => leaveOut(f)}
                />
              ))}
            </ul>
            <div className="mt-3">
              <TextField
                label="Or an address that the service takes the model from"
                placeholder="https://models.tarnholm.example/heat.onnx"
                value={draft.from}
                onChange={(from) => change({ from })}
              />
            </div>
          </Panel>
          {columns.length > 0 && (
            <Panel title="Which columns are outputs?">
              <div className="flex flex-wrap gap-x-4 gap-y-1.5">
                {columns.map((c) => (
                  <label key={c.name} className="inline-flex items-center gap-1.5">
                    <input type="checkbox" checked={draft.targets.includes(c.name)} onChange={() => toggle(c.name)} />
                    <span>{c.name}</span>
                  </label>
                ))}
              </div>
            </Panel>
          )}
        </div>
        <div className="grid min-w-0 gap-5">
          <Panel title="What it is">
            <WhatItIs draft={draft} change={change} known={known} />
          </Panel>
          <Panel title="What it was made from">
            <MadeFrom draft={draft} change={change} />
          </Panel>
          {!!error && <Problem error={error} />}
          <div className="flex justify-end gap-3">
            <Button look="go" type="submit" disabled={register.isPending || uploading || nothing}>
              {uploading ? 'Files are on their way…' : 'Register'}
            </Button>
          </div>
        </div>
      </form>
    </>
  )
}
