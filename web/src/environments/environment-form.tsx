import { useState } from 'react'

import type { Environment } from '../api/client'
import { useMe } from '../api/people'
import { useAddEnvironment, useEditEnvironment, useRemoveEnvironment } from '../api/places'
import { useProjects } from '../api/queries'
import { Form } from '../ui/form'
import { itemsIn } from '../ui/format'
import { Choice } from '../ui/overlays'
import { Field, TextField } from '../ui/parts'
import { Removal } from '../ui/removal'

/** Adds an environment, or changes one that is there. */
export function EnvironmentForm({ environment: e, done }: { environment?: Environment; done: () => void }) {
  const add = useAddEnvironment()
  const edit = useEditEnvironment(e?.name ?? '')
  const projects = useProjects().data?.items.map((p) => p.name) ?? []
  const own = useMe().data?.project
  const [draft, setDraft] = useState({
    name: e?.name ?? '',
    description: e?.description ?? '',
    project: e?.project ?? own ?? '',
    shared: e?.shared_with ?? [],
    allowed: e?.allowed.join('\n') ?? '',
    reason: '',
  })
  const change = (to: Partial<typeof draft>) => setDraft({ ...draft, ...to })
  const project = draft.project || (projects.length === 1 ? (projects[0] ?? '') : '')
  const body = {
    name: draft.name.trim(),
    description: draft.description,
    project,
    shared_with: draft.shared.filter((p) => p !== project),
    allowed: itemsIn(draft.allowed),
  }
  return (
    <Form
      submit={e ? 'Save it' : 'Add it'}
      pending={add.isPending || edit.isPending}
      error={add.error ?? edit.error}
      onSubmit={() =>
        e ? edit.mutate({ ...body, reason: draft.reason }, { onSuccess: done }) : add.mutate(body, { onSuccess: done })
      }
    >
      <TextField
        label="Name, in small letters"
        name="name"
        required
        placeholder="plant-north"
        value={draft.name}
        onChange={(name) => change({ name })}
      />
      <TextField
        label="What runs there"
        value={draft.description}
        onChange={(description) => change({ description })}
      />
      {projects.length > 1 && (
        <>
          <Field label="Whose it is">
            <Choice
              label="Whose it is"
              placeholder="choose a project"
              value={project}
              options={projects.map((p) => ({ value: p, text: p }))}
              onChange={(p) => change({ project: p })}
            />
          </Field>
          <fieldset className="grid gap-1">
            <legend className="text-ink-2 mb-1 text-[13px]">Versions of these projects may run there too</legend>
            {projects
              .filter((p) => p !== project)
              .map((p) => (
                <label key={p} className="inline-flex items-center gap-2">
                  <input
                    type="checkbox"
                    checked={draft.shared.includes(p)}
                    onChange={(event) =>
                      change({
                        shared: event.target.checked ? [...draft.shared, p] : draft.shared.filter((o) => o !== p),
                      })
                    }
                  />
                  {p}
                </label>
              ))}
          </fieldset>
        </>
      )}
      <TextField
        label="Model servers may be at, one rule a line; anywhere when empty"
        rows={2}
        placeholder="10.2.0.0/16"
        value={draft.allowed}
        onChange={(allowed) => change({ allowed })}
      />
      {e && <TextField label="Why it changes" value={draft.reason} onChange={(reason) => change({ reason })} />}
    </Form>
  )
}

export function RemoveEnvironment({ environment: e, done }: { environment: Environment; done: () => void }) {
  return (
    <Removal
      name={e.name}
      question="Nothing runs there. Why should it go?"
      removal={useRemoveEnvironment(e.name)}
      done={done}
    />
  )
}
