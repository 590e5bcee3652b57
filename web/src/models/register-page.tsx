import { useState } from 'react'
import { useNavigate, useSearchParams } from 'react-router'
import { useModels } from '../api/queries'
import { useForeseen, useRegister } from '../api/uploads'
import { Button, Empty, PageHead, Panel, Problem, TextField } from '../ui/parts'
import { ChosenFile, DropZone, type Chosen } from './chosen-files'
import { ColumnsEditor } from './columns-editor'
import { ForeseenView } from './foreseen'
import { MadeFrom, WhatItIs } from './register-fields'
import { registrationOf, useChosenFiles, useDraft, type EditedColumn } from './registering'

/** The columns that a file says: of the sample, else of the model. */
function columnsIn(files: Chosen[]): EditedColumn[] {
  const read = (['sample', 'artifact'] as const).map((p) => files.find((f) => f.part === p)?.looked?.signature)
  return sides(read.find((s) => s !== undefined))
}

type Signature = NonNullable<NonNullable<Chosen['looked']>['signature']>

const sides = (s: Signature | undefined): EditedColumn[] => [
  ...(s?.inputs ?? []).map((column) => ({ column, output: false })),
  ...(s?.outputs ?? []).map((column) => ({ column, output: true })),
]

/** A form that reads the files first and fills in what it can; beside the button stands what the gates will say. */
export function RegisterPage() {
  const [params] = useSearchParams()
  const navigate = useNavigate()
  const [draft, change] = useDraft(params.get('model') ?? '')
  const { files, add, leaveOut, readAs } = useChosenFiles()
  const register = useRegister()
  const [error, setError] = useState<unknown>()
  const known = !!useModels().data?.items.some((m) => m.name === draft.model)
  const read = columnsIn(files)
  const uploading = files.some((f) => !f.id && !f.error)
  const nothing = !draft.model.trim() || (files.length === 0 && !draft.from.trim())
  // Until it is edited, the signature is filled in from the version that answers, once that is known.
  const [base, setBase] = useState<Signature>()
  const columns = draft.columns ?? filledIn(read, base)
  const whole = { ...draft, ...(base && { columns }) }
  const spec = said(() => registrationOf(whole, files, read, known))
  const foreseen = useForeseen(uploading || nothing || spec instanceof Error ? undefined : spec)
  const incumbent = foreseen.data?.version.model === draft.model ? foreseen.data.incumbent_signature : undefined
  if (incumbent !== base && !foreseen.isPlaceholderData) setBase(incumbent)

  const send = async () => {
    setError(undefined)
    try {
      const made = await register.mutateAsync(registrationOf(whole, files, read, known))
      void navigate(`/models/${made.model}/versions/${made.number}`)
    } catch (problem) {
      setError(problem)
    }
  }
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
                  onPart={(part) => readAs(f, part, [])}
                  onLeaveOut={() => leaveOut(f)}
                />
              ))}
            </ul>
            <div className="mt-3 grid gap-4">
              {files.some((f) => f.part === 'answers') && (
                <TextField
                  label="A number of a known answer may be off by"
                  placeholder="0"
                  value={draft.tolerance}
                  onChange={(tolerance) => change({ tolerance })}
                />
              )}
              <TextField
                label="Or an address that the service takes the model from"
                placeholder="https://models.tarnholm.example/heat.onnx"
                value={draft.from}
                onChange={(from) => change({ from })}
              />
            </div>
          </Panel>
          {(columns.length > 0 || incumbent) && (
            <Panel
              title="What goes in, and which columns are outputs"
              aside={
                incumbent && (
                  <Button onClick={() => change({ columns: sides(incumbent) })}>As the one that answers</Button>
                )
              }
            >
              {columns.length > 0 ? (
                <ColumnsEditor columns={columns} onChange={(edited) => change({ columns: edited })} />
              ) : (
                <Empty>Neither a sample nor the model file says it.</Empty>
              )}
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
          <Panel title="What the gates will say">
            {foreseen.data && !nothing ? (
              <ForeseenView foreseen={foreseen.data} />
            ) : (
              <Empty>It is said here once there are a model and files.</Empty>
            )}
            {!!foreseen.error && <Problem error={foreseen.error} />}
            {!!error && <Problem error={error} />}
            <div className="mt-3 flex justify-end gap-3">
              <Button look="go" type="submit" disabled={register.isPending || uploading || nothing}>
                {uploading ? 'Files are on their way…' : 'Register'}
              </Button>
            </div>
          </Panel>
        </div>
      </form>
    </>
  )
}

/** What was read off the files, with outputs and units as in the version that answers. */
function filledIn(read: EditedColumn[], base: Signature | undefined): EditedColumn[] {
  const known = sides(base)
  return read.map((e) => {
    const as = known.find((k) => k.column.name === e.column.name)
    if (!as) return e
    return { output: as.output, column: { ...e.column, ...(as.column.unit && { unit: as.column.unit }) } }
  })
}

/** What was made, or why it could not be. */
function said<T>(make: () => T): T | Error {
  try {
    return make()
  } catch (problem) {
    return problem instanceof Error ? problem : new Error(String(problem))
  }
}
