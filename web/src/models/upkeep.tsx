import { useState } from 'react'
import { useNavigate } from 'react-router'

import type { Model, Version } from '../api/client'
import { useMay, usePeople } from '../api/people'
import {
  useDelete,
  useEditModel,
  useEditVersion,
  usePutLabel,
  useRemoveLabel,
  useReinstate,
  useRetire,
  useVet,
} from '../api/queries'
import { Form, FormSheet } from '../ui/form'
import { Choice } from '../ui/overlays'
import { Button, Field, inputLook } from '../ui/parts'

const tagsOf = (text: string) => text.split(/[\s,]+/).filter(Boolean)

/** One NAME=VALUE a line. */
const propertiesOf = (text: string) =>
  Object.fromEntries(
    text
      .split('\n')
      .filter((l) => l.includes('='))
      .map((l) => [l.slice(0, l.indexOf('=')).trim(), l.slice(l.indexOf('=') + 1).trim()]),
  )

const linesOf = (properties: Record<string, string> | undefined) =>
  Object.entries(properties ?? {})
    .map(([k, v]) => `${k}=${v}`)
    .join('\n')

/** What must be added and removed to get from one set to another. */
function changes(before: { tags?: string[]; properties?: Record<string, string> }, tags: string, properties: string) {
  const nextTags = tagsOf(tags)
  const nextProperties = propertiesOf(properties)
  return {
    add_tags: nextTags.filter((t) => !before.tags?.includes(t)),
    remove_tags: (before.tags ?? []).filter((t) => !nextTags.includes(t)),
    set_properties: Object.fromEntries(Object.entries(nextProperties).filter(([k, v]) => before.properties?.[k] !== v)),
    remove_properties: Object.keys(before.properties ?? {}).filter((k) => !(k in nextProperties)),
  }
}

/** The fields of tags and properties. */
function Marks({
  tags,
  onTags,
  properties,
  onProperties,
}: {
  tags: string
  onTags: (text: string) => void
  properties: string
  onProperties: (text: string) => void
}) {
  return (
    <>
      <Field label="Tags, separated by spaces">
        <input className={inputLook} value={tags} onChange={(event) => onTags(event.target.value)} />
      </Field>
      <Field label="Properties, one NAME=VALUE a line">
        <textarea
          className={inputLook}
          rows={3}
          value={properties}
          onChange={(event) => onProperties(event.target.value)}
        />
      </Field>
    </>
  )
}

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
  const [tags, setTags] = useState(v.tags?.join(' ') ?? '')
  const [properties, setProperties] = useState(linesOf(v.properties))
  return (
    <Form
      submit="Save"
      pending={edit.isPending}
      error={edit.error}
      onSubmit={() =>
        edit.mutate(
          { note: note === (before.note ?? '') ? undefined : note, ...changes(before, tags, properties) },
          { onSuccess: done },
        )
      }
    >
      <Field label="Note">
        <textarea className={inputLook} rows={2} value={note} onChange={(event) => setNote(event.target.value)} />
      </Field>
      <Marks tags={tags} onTags={setTags} properties={properties} onProperties={setProperties} />
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
      <Field label="Label, such as beta; it moves here from wherever it is">
        <input className={inputLook} required value={label} onChange={(event) => setLabel(event.target.value)} />
      </Field>
      <Field label="Why">
        <input className={inputLook} value={reason} onChange={(event) => setReason(event.target.value)} />
      </Field>
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
      <Field label="Why, for the record">
        <textarea
          className={inputLook}
          rows={2}
          required
          value={reason}
          onChange={(event) => setReason(event.target.value)}
        />
      </Field>
    </Form>
  )
}

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
  const [tags, setTags] = useState(m.tags?.join(' ') ?? '')
  const [properties, setProperties] = useState(linesOf(m.properties))
  const save = () =>
    edit.mutate(
      {
        description: description === before.description ? undefined : description,
        owner: owner === before.owner ? undefined : owner,
        ...changes(before, tags, properties),
      },
      { onSuccess: done },
    )
  return (
    <Form submit="Save" pending={edit.isPending} error={edit.error} onSubmit={save}>
      <Field label="Description">
        <textarea
          className={inputLook}
          rows={2}
          value={description}
          onChange={(event) => setDescription(event.target.value)}
        />
      </Field>
      <Field label="Owner">
        <Choice label="Owner" value={owner} options={people.map((p) => ({ value: p, text: p }))} onChange={setOwner} />
      </Field>
      <Marks tags={tags} onTags={setTags} properties={properties} onProperties={setProperties} />
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
          : 'A vetted model is one that the organisation stands behind; its versions are offered as parents to start from.'}
      </p>
      <Field label="Why">
        <textarea
          className={inputLook}
          rows={2}
          required
          value={reason}
          onChange={(event) => setReason(event.target.value)}
        />
      </Field>
    </Form>
  )
}
