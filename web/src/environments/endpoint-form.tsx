import { useState, type ReactNode } from 'react'

import type { Endpoint, Environment } from '../api/client'
import { useAddEndpoint, useEditEndpoint, useRemoveEndpoint } from '../api/places'
import { useModels } from '../api/queries'
import { Form } from '../ui/form'
import { Choice } from '../ui/overlays'
import { Field, TextField } from '../ui/parts'
import { Removal } from '../ui/removal'

type Terms = Endpoint['terms']

/** What a trial is held to, as people type it. */
interface Margins {
  /** How many times the main lane's errors it may have, and how many points more whatever that is. */
  errorRatio: string
  errors: string
  /** How many times the main lane's 99th percentile it may take, and how many milliseconds more. */
  latencyRatio: string
  latency: string
  /** The gap of its predictions. */
  drift: string
}

const usual: Margins = { errorRatio: '2', errors: '0.05', latencyRatio: '1.5', latency: '5', drift: '0.1' }

function marginsOf(terms?: Terms): Margins {
  if (!terms) return usual
  const of = (signal: string) => terms.guards.find((g) => g.signal === signal)
  const text = (x: number | undefined) => (x === undefined ? '' : String(Number(x.toPrecision(6))))
  const errors = of('error_rate')
  const latency = of('latency_p99')
  return {
    errorRatio: text(errors && (errors.ratio ?? 1)),
    errors: text(errors && errors.margin * 100),
    latencyRatio: text(latency && (latency.ratio ?? 1)),
    latency: text(latency?.margin),
    drift: text(of('prediction_drift')?.margin),
  }
}

/** The guards that the fields describe; those on other signals stay as they are. */
function termsOf(m: Margins, before: Terms): Terms {
  const own = ['error_rate', 'latency_p99', 'prediction_drift']
  const guards: Terms['guards'] = before.guards.filter((g) => !own.includes(g.signal))
  const then = (signal: string) => {
    const response = before.guards.find((g) => g.signal === signal)?.then
    return response && { then: response }
  }
  if (m.errorRatio.trim() || m.errors.trim()) {
    guards.push({
      signal: 'error_rate',
      ratio: Number(m.errorRatio || 1),
      margin: Number(m.errors) / 100,
      ...then('error_rate'),
    })
  }
  if (m.latencyRatio.trim() || m.latency.trim()) {
    guards.push({
      signal: 'latency_p99',
      ratio: Number(m.latencyRatio || 1),
      margin: Number(m.latency),
      ...then('latency_p99'),
    })
  }
  if (m.drift.trim()) {
    guards.push({ signal: 'prediction_drift', margin: Number(m.drift), ...then('prediction_drift') })
  }
  return { ...before, guards }
}

const fields: [keyof Margins, string][] = [
  ['errorRatio', 'Times its errors'],
  ['errors', 'Or this many points more'],
  ['latencyRatio', 'Times its p99 of latency'],
  ['latency', 'Or this many milliseconds more'],
  ['drift', 'Gap of the shares of predictions, 0 to 1'],
]

const changed = (now: Margins, before: Margins) => fields.some(([key]) => now[key] !== before[key])

/** What else a new endpoint's trials are held to, which the fields do not show. */
const usualTerms: Terms = {
  alpha: 0.001,
  beta: 0.05,
  guards: [
    { signal: 'timeout_rate', ratio: 2, margin: 0.0002 },
    { signal: 'latency_p50', ratio: 1.5, margin: 5 },
    { signal: 'missing_outputs', margin: 0.05 },
  ],
}

function MarginFields({ margins, onChange }: { margins: Margins; onChange: (margins: Margins) => void }) {
  return (
    <fieldset>
      <legend className="text-ink-2 mb-1.5">
        A trial is rolled back when it is surely worse than main by more than this; empty fields are no guard
      </legend>
      <div className="grid grid-cols-2 items-end gap-4">
        {fields.map(([key, label]) => (
          <TextField
            key={key}
            label={label}
            value={margins[key]}
            onChange={(value) => onChange({ ...margins, [key]: value })}
          />
        ))}
      </div>
    </fieldset>
  )
}

function Tick({ on, onChange, children }: { on: boolean; onChange: (on: boolean) => void; children: ReactNode }) {
  return (
    <label className="inline-flex items-center gap-2">
      <input type="checkbox" checked={on} onChange={(event) => onChange(event.target.checked)} />
      {children}
    </label>
  )
}

/** What may be done with requests. */
function Choices({
  repeatable,
  checked,
  onRepeatable,
  onChecked,
}: {
  repeatable: boolean
  checked: boolean
  onRepeatable: (on: boolean) => void
  onChecked: (on: boolean) => void
}) {
  return (
    <div className="grid gap-1">
      <Tick on={repeatable} onChange={onRepeatable}>
        asking a model server twice does no harm: a request is sent again whenever it failed
      </Tick>
      <Tick on={checked} onChange={onChecked}>
        requests that do not keep the contract are refused before a model server sees them
      </Tick>
    </div>
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
  const [checked, setChecked] = useState(false)
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
            checked,
            ...(changed(margins, usual) && { terms: termsOf(margins, usualTerms) }),
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
      <Choices repeatable={repeatable} checked={checked} onRepeatable={setRepeatable} onChecked={setChecked} />
    </Form>
  )
}

export function EditEndpoint({ endpoint: e, rungs, done }: { endpoint: Endpoint; rungs: string[]; done: () => void }) {
  const edit = useEditEndpoint(e.name)
  const [description, setDescription] = useState(e.description)
  const [rung, setRung] = useState(e.rung)
  const [margins, setMargins] = useState(marginsOf(e.terms))
  const [repeatable, setRepeatable] = useState(e.repeatable)
  const [checked, setChecked] = useState(e.checked)
  const [sticky, setSticky] = useState(e.sticky ?? '')
  const [owner, setOwner] = useState(e.watches.owner ?? '')
  const [runbook, setRunbook] = useState(e.watches.runbook ?? '')
  const [reason, setReason] = useState('')
  const held = changed(margins, marginsOf(e.terms))
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
            checked,
            sticky: sticky.trim(),
            owner: owner.trim(),
            runbook: runbook.trim(),
            reason,
            ...(rung !== e.rung && { rung }),
            ...(held && { terms: termsOf(margins, e.terms) }),
          },
          { onSuccess: done },
        )
      }
    >
      <TextField label="Who calls it" value={description} onChange={setDescription} />
      <div className="grid grid-cols-2 gap-4">
        <TextField label="Whose it is" value={owner} onChange={setOwner} />
        <TextField label="Runbook" placeholder="https://…" value={runbook} onChange={setRunbook} />
      </div>
      <Field label="Versions must stand on">
        <Choice
          label="Versions must stand on"
          value={rung}
          options={rungs.map((r) => ({ value: r, text: r }))}
          onChange={setRung}
        />
      </Field>
      <MarginFields margins={margins} onChange={setMargins} />
      <Choices repeatable={repeatable} checked={checked} onRepeatable={setRepeatable} onChecked={setChecked} />
      <TextField
        label="Callers stay on their lane by"
        placeholder="header Inner-Ladder-Caller; or key, caller, header NAME, cookie NAME, input NAME"
        value={sticky}
        onChange={setSticky}
      />
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
