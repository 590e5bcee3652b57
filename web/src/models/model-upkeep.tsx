import { useState } from 'react'
import type { Model } from '../api/client'
import { useMay, usePeople } from '../api/people'
import { useEditModel, useVet } from '../api/queries'
import { Form, FormSheet } from '../ui/form'
import { Choice } from '../ui/overlays'
import { Button, Field, TextField } from '../ui/parts'
import { useMarks } from './use-marks'

/** What may change of a model: description, owner, tags, properties; and whether it is vetted. */
export function ModelUpkeep({ model: m }: { model: Model }) {
  const mayEdit = useMay('register', m.project)
  const mayVet = useMay('sign', m.project)
  return (
    <>
      {mayEdit && (
        <FormSheet title={`Edit ${m.name}`} trigger={<Button>Edit</Button>}>
          {(done) => <EditModel model={m} done={done} />}
        </FormSheet>
      )}
      {mayVet && (
        <FormSheet
          title={m.vetted ? `${m.name} is vetted` : `Vet ${m.name}`}
          trigger={<Button>{m.vetted ? 'Unvet' : 'Vet'}</Button>}
        >
          {(done) => <VetModel model={m} done={done} />}
        </FormSheet>
      )}
    </>
  )
}

interface OfModel {
  model: Model
  done: () => void
}

function EditModel({ model: m, done }: OfModel) {
  const edit = useEditModel(m.name)
  const people = usePeople().data?.items.map((p) => p.name) ?? [m.owner]
  const [before] = useState(m)
  const [description, setDescription] = useState(m.description)
  const [owner, setOwner] = useState(m.owner)
  const marks = useMarks(before)
  const save = () =>
    edit.mutate(
      {
        description: description === before.description ? undefined : description,
        owner: owner === before.owner ? undefined : owner,
        ...marks.changed(),
      },
      { onSuccess: done },
    )
  return (
    <Form submit="Save" pending={edit.isPending} error={edit.error} onSubmit={save}>
      <TextField label="Description" rows={2} value={description} onChange={setDescription} />
      <Field label="Owner">
        <Choice label="Owner" value={owner} options={people.map((p) => ({ value: p, text: p }))} onChange={setOwner} />
      </Field>
      {marks.fields}
    </Form>
  )
}

function VetModel({ model: m, done }: OfModel) {
  const vet = useVet(m.name)
  const [reason, setReason] = useState('')
  return (
    <Form
      submit={m.vetted ? 'Take the mark away' : 'Mark as vetted'}
      pending={vet.isPending}
      error={vet.error}
      onSubmit={() => vet.mutate({ vetted: !m.vetted, reason }, { onSuccess: done })}
    >
      <p className="text-ink-2">
        {m.vetted
          ? `Marked by ${m.vetted.by}: “${m.vetted.why}”`
          : 'The organisation stands behind a vetted model; its versions are offered as parents to start from.'}
      </p>
      <TextField label="Why" rows={2} required value={reason} onChange={setReason} />
    </Form>
  )
}
