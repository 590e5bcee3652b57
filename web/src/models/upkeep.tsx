import { useState, type ReactNode } from 'react'
import { useNavigate } from 'react-router'

import type { Model, Version } from '../api/client'
import { useDelete, useEditModel, useEditVersion, usePeople, usePutLabel, useRemoveLabel, useRestore, useRetire, useVet } from '../api/queries'
import { Choice, Sheet } from '../ui/overlays'
import { Button, Field, inputLook, Problem } from '../ui/parts'

const tagsOf = (text: string) => text.split(/[\s,]+/).filter(Boolean)

/** One NAME=VALUE a line. */
const propertiesOf = (text: string) => Object.fromEntries(text.split('\n').filter((l) => l.includes('=')).map((l) => [l.slice(0, l.indexOf('=')).trim(), l.slice(l.indexOf('=') + 1).trim()]))

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

function FormSheet({ title, trigger, submit, pending, error, onSubmit, children }: { title: string; trigger: ReactNode; submit: string; pending: boolean; error: unknown; onSubmit: (done: () => void) => void; children: ReactNode }) {
  const [open, setOpen] = useState(false)
  return (
    <Sheet title={title} open={open} onOpenChange={setOpen} trigger={trigger}>
      <form
        className="grid gap-4"
        onSubmit={(event) => {
          event.preventDefault()
          onSubmit(() => setOpen(false))
        }}
      >
        {children}
        {!!error && <Problem error={error} />}
        <div className="flex justify-end">
          <Button look="go" type="submit" disabled={pending}>
            {submit}
          </Button>
        </div>
      </form>
    </Sheet>
  )
}

/** The fields of tags and properties. */
function Marks({ tags, onTags, properties, onProperties }: { tags: string; onTags: (text: string) => void; properties: string; onProperties: (text: string) => void }) {
  return (
    <>
      <Field label="Tags, separated by spaces">
        <input className={inputLook} value={tags} onChange={(event) => onTags(event.target.value)} />
      </Field>
      <Field label="Properties, one NAME=VALUE a line">
        <textarea className={inputLook} rows={3} value={properties} onChange={(event) => onProperties(event.target.value)} />
      </Field>
    </>
  )
}

/** What may change of a version: note, tags, properties, labels; and retiring, restoring, deleting. */
export function VersionUpkeep({ version: v }: { version: Version }) {
  return (
    <>
      <EditVersion version={v} />
      <LabelVersion version={v} />
      <PutAway version={v} />
    </>
  )
}

function EditVersion({ version: v }: { version: Version }) {
  const edit = useEditVersion(v.ref)
  const [note, setNote] = useState(v.note ?? '')
  const [tags, setTags] = useState(v.tags?.join(' ') ?? '')
  const [properties, setProperties] = useState(linesOf(v.properties))
  return (
    <FormSheet title={`Edit ${v.ref}`} trigger={<Button>Edit</Button>} submit="Save" pending={edit.isPending} error={edit.error} onSubmit={(done) => edit.mutate({ note: note === (v.note ?? '') ? undefined : note, ...changes(v, tags, properties) }, { onSuccess: done })}>
      <Field label="Note">
        <textarea className={inputLook} rows={2} value={note} onChange={(event) => setNote(event.target.value)} />
      </Field>
      <Marks tags={tags} onTags={setTags} properties={properties} onProperties={setProperties} />
    </FormSheet>
  )
}

function LabelVersion({ version: v }: { version: Version }) {
  const put = usePutLabel(v.model)
  const remove = useRemoveLabel(v.model)
  const [label, setLabel] = useState('')
  const [reason, setReason] = useState('')
  return (
    <FormSheet title={`Label ${v.ref}`} trigger={<Button>Label</Button>} submit="Put the label on" pending={put.isPending} error={put.error ?? remove.error} onSubmit={(done) => put.mutate({ label: label.trim(), number: v.number, reason }, { onSuccess: done })}>
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
    </FormSheet>
  )
}

function PutAway({ version: v }: { version: Version }) {
  const retired = v.rung === 'retired'
  const retire = useRetire(v.ref)
  const restore = useRestore(v.ref)
  const remove = useDelete(v.ref)
  const navigate = useNavigate()
  const [reason, setReason] = useState('')
  const [what, setWhat] = useState(retired ? 'restore' : 'retire')
  const doing = { retire, restore, delete: remove }[what] ?? retire
  return (
    <FormSheet
      title={`Put ${v.ref} away`}
      trigger={<Button>{retired ? 'Restore' : 'Retire'}</Button>}
      submit={what === 'delete' ? 'Delete for good' : what === 'restore' ? 'Restore' : 'Retire'}
      pending={doing.isPending}
      error={doing.error}
      onSubmit={(done) => {
        if (what === 'delete') remove.mutate(reason, { onSuccess: () => void navigate(`/models/${v.model}`) })
        else (what === 'restore' ? restore : retire).mutate(reason, { onSuccess: done })
      }}
    >
      <Field label="What">
        <Choice
          label="What"
          value={what}
          options={[retired ? { value: 'restore', text: 'restore it to the lowest rung' } : { value: 'retire', text: 'retire it: off the ladder, everything stays' }, { value: 'delete', text: 'delete it: its contents go, its number stays taken' }]}
          onChange={setWhat}
        />
      </Field>
      <Field label="Why, for the record">
        <textarea className={inputLook} rows={2} required value={reason} onChange={(event) => setReason(event.target.value)} />
      </Field>
    </FormSheet>
  )
}

/** What may change of a model: description, owner, tags, properties; and whether it is vetted. */
export function ModelUpkeep({ model: m }: { model: Model }) {
  const edit = useEditModel(m.name)
  const vet = useVet(m.name)
  const people = usePeople().data?.items.map((p) => p.name) ?? [m.owner]
  const [description, setDescription] = useState(m.description)
  const [owner, setOwner] = useState(m.owner)
  const [tags, setTags] = useState(m.tags?.join(' ') ?? '')
  const [properties, setProperties] = useState(linesOf(m.properties))
  const [reason, setReason] = useState('')
  return (
    <>
      <FormSheet
        title={`Edit ${m.name}`}
        trigger={<Button>Edit</Button>}
        submit="Save"
        pending={edit.isPending}
        error={edit.error}
        onSubmit={(done) => edit.mutate({ description: description === m.description ? undefined : description, owner: owner === m.owner ? undefined : owner, ...changes(m, tags, properties) }, { onSuccess: done })}
      >
        <Field label="Description">
          <textarea className={inputLook} rows={2} value={description} onChange={(event) => setDescription(event.target.value)} />
        </Field>
        <Field label="Owner">
          <Choice label="Owner" value={owner} options={people.map((p) => ({ value: p, text: p }))} onChange={setOwner} />
        </Field>
        <Marks tags={tags} onTags={setTags} properties={properties} onProperties={setProperties} />
      </FormSheet>
      <FormSheet title={m.vetted ? `${m.name} is vetted` : `Vet ${m.name}`} trigger={<Button>{m.vetted ? 'Unvet' : 'Vet'}</Button>} submit={m.vetted ? 'Take the mark away' : 'Mark as vetted'} pending={vet.isPending} error={vet.error} onSubmit={(done) => vet.mutate({ vetted: !m.vetted, reason }, { onSuccess: done })}>
        <p className="text-ink-2">
          {m.vetted ? `Marked by ${m.vetted.by}: “${m.vetted.why}”` : 'A vetted model is one that the organisation stands behind; its versions are offered as parents to start from.'}
        </p>
        <Field label="Why">
          <textarea className={inputLook} rows={2} required value={reason} onChange={(event) => setReason(event.target.value)} />
        </Field>
      </FormSheet>
    </>
  )
}
