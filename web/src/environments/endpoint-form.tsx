import { useState } from 'react'

import type { Endpoint, Environment } from '../api/client'
import { useAddEndpoint, useEditEndpoint, useRemoveEndpoint } from '../api/places'
import { useModels } from '../api/queries'
import { Form } from '../ui/form'
import { Choice } from '../ui/overlays'
import { Field, TextField } from '../ui/parts'
import { Removal } from '../ui/removal'

type Plan = Endpoint['plan']

/** What a trial is held to, as people type it: points of errors, and the gap of its predictions. */
const marginsOf = (plan?: Plan) => ({
  errors: String((plan?.guards.find((g) => g.signal === 'error_rate')?.margin ?? 0.005) * 100),
  drift: String(plan ? (plan.guards.find((g) => g.signal === 'prediction_drift')?.margin ?? '') : 0.25),
})

function planOf({ errors, drift }: { errors: string; drift: string }, alpha: number): Plan {
  const guards: Plan['guards'] = [{ signal: 'error_rate', margin: Number(errors) / 100 }]
  if (drift.trim()) guards.push({ signal: 'prediction_drift', margin: Number(drift) })
  return { guards, alpha }
}

interface Margins {
  errors: string
  drift: string
}

function MarginFields({ margins, onChange }: { margins: Margins; onChange: (margins: Margins) => void }) {
  return (
    <div className="grid grid-cols-2 items-end gap-4">
      <TextField
        label="A trial may have this many points more errors"
        value={margins.errors}
        onChange={(errors) => onChange({ ...margins, errors })}
      />
      <TextField
        label="Its predictions may differ by this gap, 0 to 1; empty for no guard"
        value={margins.drift}
        onChange={(drift) => onChange({ ...margins, drift })}
      />
    </div>
  )
}

function Repeatable({ on, onChange }: { on: boolean; onChange: (on: boolean) => void }) {
  return (
    <label className="inline-flex items-center gap-2">
      <input type="checkbox" checked={on} onChange={(event) => onChange(event.target.checked)} />
      asking a model server twice does no harm: a request is sent again whenever it failed
    </label>
  )
}

export function AddEndpoint({ environment: e, done }: { environment: Environment; done: () => void }) {
  const add = useAddEndpoint()
  const models = (useModels().data?.items ?? []).filter(
    (m) => m.project === e.project || e.shared_with.includes(m.project),
  )
  const [name, setName] = useState('')
  const [model, setModel] = useState('')
  const [description, setDescription] = useState('')
  const [margins, setMargins] = useState(marginsOf())
  const [repeatable, setRepeatable] = useState(false)
  const chosen = model || (models.length === 1 ? (models[0]?.name ?? '') : '')
  return (
    <Form
      submit="Add the endpoint"
      pending={add.isPending || chosen === ''}
      error={add.error}
      onSubmit={() =>
        add.mutate(
          {
            name: name.trim(),
            model: chosen,
            environment: e.name,
            description,
            repeatable,
            plan: planOf(margins, 0.001),
          },
          { onSuccess: done },
        )
      }
    >
      <TextField label="Name that callers call" required placeholder="demand-hourly" value={name} onChange={setName} />
      <Field label="Model whose versions answer">
        <Choice
          label="Model whose versions answer"
          placeholder="choose a model"
          value={chosen}
          options={models.map((m) => ({ value: m.name, text: m.name }))}
          onChange={setModel}
        />
      </Field>
      <TextField label="Who calls it" value={description} onChange={setDescription} />
      <MarginFields margins={margins} onChange={setMargins} />
      <Repeatable on={repeatable} onChange={setRepeatable} />
    </Form>
  )
}

export function EditEndpoint({ endpoint: e, rungs, done }: { endpoint: Endpoint; rungs: string[]; done: () => void }) {
  const edit = useEditEndpoint(e.name)
  const [description, setDescription] = useState(e.description)
  const [rung, setRung] = useState(e.rung)
  const [margins, setMargins] = useState(marginsOf(e.plan))
  const [repeatable, setRepeatable] = useState(e.repeatable)
  const [reason, setReason] = useState('')
  const before = marginsOf(e.plan)
  const held = margins.errors !== before.errors || margins.drift !== before.drift
  return (
    <Form
      submit="Save it"
      pending={edit.isPending}
      error={edit.error}
      onSubmit={() =>
        edit.mutate(
          {
            description,
            repeatable,
            reason,
            ...(rung !== e.rung && { rung }),
            ...(held && { plan: planOf(margins, e.plan.alpha) }),
          },
          { onSuccess: done },
        )
      }
    >
      <TextField label="Who calls it" value={description} onChange={setDescription} />
      <Field label="Versions must stand on">
        <Choice
          label="Versions must stand on"
          value={rung}
          options={rungs.map((r) => ({ value: r, text: r }))}
          onChange={setRung}
        />
      </Field>
      <MarginFields margins={margins} onChange={setMargins} />
      <Repeatable on={repeatable} onChange={setRepeatable} />
      <TextField label="Why it changes" value={reason} onChange={setReason} />
    </Form>
  )
}

export function RemoveEndpoint({ endpoint: e, done }: { endpoint: Endpoint; done: () => void }) {
  return (
    <Removal
      name={e.name}
      question="Why should it go? Nobody may have called it for a quarter of an hour"
      removal={useRemoveEndpoint(e.name)}
      done={done}
    />
  )
}
