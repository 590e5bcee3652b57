import { useState } from 'react'
import { useNavigate } from 'react-router'
import type { Model } from '../api/client'
import { useMay, usePeople } from '../api/people'
import { useEditModel, useProjects, useRemoveModel, useVet } from '../api/queries'
import { Form, FormSheet } from '../ui/form'
import { Choice } from '../ui/overlays'
import { Button, Field, TextField } from '../ui/parts'
import { Removal } from '../ui/removal'
import { useMarks } from './use-marks'

/** What may change of a model: description, owner, tags, properties; and whether it is vetted. */
export function ModelUpkeep({ model: m }: { model: Model }) {
  const mayEdit = useMay('register', m.project)
  const mayVet = useMay('sign', m.project)
  const mayManage = useMay('manage', m.project)
  return (
    <>
      {mayEdit && (
        <FormSheet title={`Edit ${m.name}`} trigger={<Button>Edit</Button>}>
          {(done) => <EditModel model={m} done={done} />}
        </FormSheet>
      )}
      {mayManage && (
        <FormSheet title={`Where ${m.name} belongs`} trigger={<Button>Move</Button>}>
          {(done) => (
            <div className="grid gap-6">
              <MoveModel model={m} done={done} />
              {m.versions === 0 && <RemoveModel model={m} done={done} />}
            </div>
          )}
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

/** Another project, where it stands and runs as before; another name, while nothing names it that cannot follow. */
function MoveModel({ model: m, done }: OfModel) {
  const edit = useEditModel(m.name)
  const navigate = useNavigate()
  const projects = useProjects().data?.items.map((p) => p.name) ?? [m.project]
  const [project, setProject] = useState(m.project)
  const [name, setName] = useState(m.name)
  const [reason, setReason] = useState('')
  const moved = project !== m.project || name !== m.name
  return (
    <Form
      submit="Move it"
      pending={edit.isPending || !moved}
      error={edit.error}
      onSubmit={() =>
        edit.mutate(
          {
            reason,
            ...(project !== m.project && { project }),
            ...(name !== m.name && { name: name.trim() }),
          },
          {
            onSuccess: (after) => {
              done()
              void navigate(`/models/${after.name}`)
            },
          },
        )
      }
    >
      <Field label="Project">
        <Choice
          label="Project"
          value={project}
          options={projects.map((p) => ({ value: p, text: p }))}
          onChange={setProject}
        />
      </Field>
      <TextField
        label="Name; it stays once somebody signed for it, ran it or called it"
        value={name}
        onChange={setName}
      />
      <TextField label="Why it moves" value={reason} onChange={setReason} />
    </Form>
  )
}

function RemoveModel({ model: m, done }: OfModel) {
  const navigate = useNavigate()
  return (
    <Removal
      name={m.name}
      question="It has no version any more. Why should it go?"
      needed
      removal={useRemoveModel(m.name)}
      done={() => {
        done()
        void navigate('/models')
      }}
    />
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
