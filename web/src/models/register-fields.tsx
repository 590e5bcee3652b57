import { useMe } from '../api/people'
import { useDataSets, useModels, useProjects, useRuns } from '../api/queries'
import { Choice } from '../ui/overlays'
import { Field, inputLook, TextField } from '../ui/parts'
import { MetricRows } from './metric-rows'
import { type Draft } from './registering'

interface Fields {
  draft: Draft
  change: (to: Partial<Draft>) => void
}

/** The model and what can be said of a version by hand; known says that the model is there already. */
export function WhatItIs({ draft, change, known }: Fields & { known: boolean }) {
  const models = useModels().data?.items ?? []
  const own = useMe().data?.project
  const projects = useProjects().data?.items.map((p) => p.name) ?? ['default']
  return (
    <div className="grid gap-4">
      <Field label="Model">
        <input
          className={inputLook}
          required
          list="known-models"
          placeholder="heat-demand"
          value={draft.model}
          onChange={(event) => change({ model: event.target.value })}
        />
        <datalist id="known-models">
          {models.map((m) => (
            <option key={m.name} value={m.name} />
          ))}
        </datalist>
      </Field>
      {draft.model && !known && (
        <>
          <TextField
            label="It is new. What is it about?"
            value={draft.description}
            onChange={(description) => change({ description })}
          />
          {projects.length > 1 && (
            <Field label="Project">
              <Choice
                label="Project"
                placeholder="choose a project"
                value={draft.project || (own ?? '')}
                options={projects.map((p) => ({ value: p, text: p }))}
                onChange={(project) => change({ project })}
              />
            </Field>
          )}
        </>
      )}
      <TextField
        label="Note"
        placeholder="two winters, with the wind"
        value={draft.note}
        onChange={(note) => change({ note })}
      />
      <MetricRows rows={draft.metrics} onChange={(metrics) => change({ metrics })} />
      <TextField
        label="Parameters, one NAME=VALUE a line"
        rows={2}
        placeholder="depth=6"
        value={draft.params}
        onChange={(params) => change({ params })}
      />
      <TextField label="Tags, separated by spaces" value={draft.tags} onChange={(tags) => change({ tags })} />
    </div>
  )
}

/** The run, data and parent that a version comes from. */
export function MadeFrom({ draft, change }: Fields) {
  const vetted = (useModels().data?.items ?? []).filter((m) => m.vetted && m.newest > 0)
  const sets = useDataSets().data?.items ?? []
  const runs = useRuns(draft.model || undefined).data?.items ?? []
  return (
    <div className="grid gap-4">
      <Field label="Run, which gives metrics, parameters, code and data">
        <input
          className={inputLook}
          list="known-runs"
          placeholder="run-12"
          value={draft.run}
          onChange={(event) => change({ run: event.target.value })}
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
          value={draft.data}
          onChange={(event) => change({ data: event.target.value })}
        />
        <datalist id="known-data">
          {sets.map((d) => (
            <option key={d.ref} value={d.ref} />
          ))}
        </datalist>
      </Field>
      <div className="grid grid-cols-2 items-end gap-4">
        <Field label="Parent version; vetted ones are offered">
          <input
            className={inputLook}
            list="vetted"
            placeholder="weather-base@1"
            value={draft.parent}
            onChange={(event) => change({ parent: event.target.value })}
          />
          <datalist id="vetted">
            {vetted.map((m) => (
              <option key={m.name} value={`${m.name}@${m.newest}`}>
                {m.vetted?.why}
              </option>
            ))}
          </datalist>
        </Field>
        <TextField
          label="How it was made from it"
          value={draft.relation}
          onChange={(relation) => change({ relation })}
        />
      </div>
    </div>
  )
}
