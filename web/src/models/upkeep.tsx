import { useState } from 'react'
import { useNavigate } from 'react-router'
import type { Version } from '../api/client'
import { useMay } from '../api/people'
import { useDelete, useEditVersion, usePutLabel, useRemoveLabel, useReinstate, useRetire } from '../api/queries'
import { Form, FormSheet } from '../ui/form'
import { Choice } from '../ui/overlays'
import { Button, Field, TextField } from '../ui/parts'
import { useMarks } from './use-marks'

/** What may change of a version: note, tags, properties, labels; and retiring, restoring, deleting. */
export function VersionUpkeep({ version: v }: { version: Version }) {
  const mayEdit = useMay('register', v.project)
  const mayPrune = useMay('prune', v.project)
  return (
    <>
      {mayEdit && (
        <>
          <FormSheet title={`Edit ${v.ref}`} trigger={<Button>Edit</Button>}>
            {(done) => <EditVersion version={v} done={done} />}
          </FormSheet>
          <FormSheet title={`Label ${v.ref}`} trigger={<Button>Label</Button>}>
            {(done) => <LabelVersion version={v} done={done} />}
          </FormSheet>
        </>
      )}
      {mayPrune && (
        <FormSheet
          title={`Put ${v.ref} away`}
          trigger={<Button>{v.rung === 'retired' ? 'Reinstate' : 'Retire'}</Button>}
        >
          {(done) => <PutAway version={v} done={done} />}
        </FormSheet>
      )}
    </>
  )
}

interface OfVersion {
  version: Version
  done: () => void
}

function EditVersion({ version: v, done }: OfVersion) {
  const edit = useEditVersion(v.ref)
  const [before] = useState(v)
  const [note, setNote] = useState(v.note ?? '')
  const marks = useMarks(before)
  return (
    <Form
      submit="Save"
      pending={edit.isPending}
      error={edit.error}
      onSubmit={() =>
        edit.mutate({ note: note === (before.note ?? '') ? undefined : note, ...marks.changed() }, { onSuccess: done })
      }
    >
      <TextField label="Note" rows={2} value={note} onChange={setNote} />
      {marks.fields}
    </Form>
  )
}

function LabelVersion({ version: v, done }: OfVersion) {
  const put = usePutLabel(v.model)
  const remove = useRemoveLabel(v.model)
  const [label, setLabel] = useState('')
  const [reason, setReason] = useState('')
  return (
    <Form
      submit="Put the label on"
      pending={put.isPending}
      error={put.error ?? remove.error}
      onSubmit={() => put.mutate({ label: label.trim(), number: v.number, reason }, { onSuccess: done })}
    >
      <TextField
        label="Label, such as beta; it moves here from wherever it is"
        required
        value={label}
        onChange={setLabel}
      />
      <TextField label="Why" value={reason} onChange={setReason} />
      {v.labels && v.labels.length > 0 && (
        <div className="flex flex-wrap items-center gap-2">
          <span className="text-ink-2">It has</span>
          {v.labels.map((l) => (
            <Button key={l} onClick={() => remove.mutate(l)}>
              {l} ✕
            </Button>
          ))}
        </div>
      )}
    </Form>
  )
}

const ways = {
  retire: 'retire it: off the ladder, everything stays',
  reinstate: 'reinstate it on the lowest rung',
  delete: 'delete it: its contents go, its number stays taken',
} as const

const submits = { retire: 'Retire', reinstate: 'Reinstate', delete: 'Delete for good' } as const

function PutAway({ version: v, done }: OfVersion) {
  const usual: keyof typeof ways = v.rung === 'retired' ? 'reinstate' : 'retire'
  const [what, setWhat] = useState<keyof typeof ways>(usual)
  const [reason, setReason] = useState('')
  const mutations = { retire: useRetire(v.ref), reinstate: useReinstate(v.ref), delete: useDelete(v.ref) }
  const navigate = useNavigate()
  const send = () => {
    if (what === 'delete') mutations.delete.mutate(reason, { onSuccess: () => void navigate(`/models/${v.model}`) })
    else mutations[what].mutate(reason, { onSuccess: done })
  }
  return (
    <Form submit={submits[what]} pending={mutations[what].isPending} error={mutations[what].error} onSubmit={send}>
      <Field label="What">
        <Choice
          label="What"
          value={what}
          options={([usual, 'delete'] as const).map((w) => ({ value: w, text: ways[w] }))}
          onChange={(w) => setWhat(w as keyof typeof ways)}
        />
      </Field>
      <TextField label="Why, for the record" rows={2} required value={reason} onChange={setReason} />
    </Form>
  )
}
