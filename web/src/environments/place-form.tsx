import { useState } from 'react'

import type { Environment, Placement } from '../api/client'
import { useChangeAddresses, usePlace } from '../api/places'
import { useModels } from '../api/queries'
import { useTemplates } from '../api/running'
import { Form } from '../ui/form'
import { itemsIn } from '../ui/format'
import { Button, Field, inputLook, Tag, TextField } from '../ui/parts'

/** The versions that may run in an environment, the newest of each model first. */
function useRefs(environment: Environment): string[] {
  const models = useModels().data?.items ?? []
  return models
    .filter((m) => m.project === environment.project || environment.shared_with.includes(m.project))
    .flatMap((m) =>
      Object.values(m.standing)
        .flatMap((numbers) => numbers ?? [])
        .sort((a, b) => b - a)
        .map((n) => `${m.name}@${n}`),
    )
}

/** Where a version that is placed answers. */
const wheres = {
  servers: 'In model servers of its own, at these addresses',
  runner: 'On the service’s machine: it is run from its file and looked after',
  elsewhere: 'Elsewhere, where the gateway does not reach',
} as const

type Where = keyof typeof wheres

/** A version is placed after its servers were asked; what they lack is said here. */
export function Place({ environment: e, done }: { environment: Environment; done: () => void }) {
  const place = usePlace(e.name)
  const refs = useRefs(e)
  const [version, setVersion] = useState('')
  const [where, setWhere] = useState<Where>('servers')
  const [at, setAt] = useState('')
  const [servedAs, setServedAs] = useState('')
  const [runner, setRunner] = useState<RunnerDraft>({ template: '', replicas: '1', batch_rows: '0', batch_wait: '2ms' })
  if (place.data) return <Placed placement={place.data} done={done} />
  const how = {
    servers: { addresses: itemsIn(at), ...(servedAs.trim() && { served_as: servedAs.trim() }) },
    runner: { runner: { ...runner, batch_rows: runner.template ? 0 : Number(runner.batch_rows) || 0 } },
    elsewhere: { elsewhere: true },
  }[where]
  const submit = { servers: 'Check and place', runner: 'Run and place', elsewhere: 'Place it elsewhere' }[where]
  return (
    <Form
      submit={place.isPending ? 'Asking the servers…' : submit}
      pending={place.isPending}
      error={place.error}
      onSubmit={() => place.mutate({ version: version.trim(), ...how })}
    >
      <Field label="Version">
        <input
          className={inputLook}
          required
          list="placeable"
          placeholder="heat-demand@2"
          value={version}
          onChange={(event) => setVersion(event.target.value)}
        />
        <datalist id="placeable">
          {refs.map((r) => (
            <option key={r} value={r} />
          ))}
        </datalist>
      </Field>
      <fieldset className="grid gap-1.5">
        <legend className="text-ink-2 mb-1 text-[13px]">Where it answers</legend>
        {(Object.keys(wheres) as Where[]).map((w) => (
          <label key={w} className="inline-flex items-baseline gap-2">
            <input type="radio" name="where" checked={where === w} onChange={() => setWhere(w)} />
            {wheres[w]}
          </label>
        ))}
      </fieldset>
      {where === 'elsewhere' && (
        <p className="text-ink-2 text-[13px]">
          Nothing is asked of it. What it does is known from what innerladder agent reports beside it.
        </p>
      )}
      {where === 'runner' && <RunnerFields value={runner} onChange={setRunner} />}
      {where === 'servers' && (
        <>
          <TextField
            label="Addresses of its model servers, one a line"
            rows={2}
            required
            placeholder="http://10.2.0.7:9000"
            value={at}
            onChange={setAt}
          />
          <TextField
            label="Name of the model there, if it is another"
            placeholder={version.split('@')[0]}
            value={servedAs}
            onChange={setServedAs}
          />
          <p className="text-ink-2 text-[13px]">
            Each server must be ready, take and give what the signature says, answer the sample request, and its known
            answers.
          </p>
        </>
      )}
    </Form>
  )
}

interface RunnerDraft {
  /** The command line that serves it; empty is the built-in model server. */
  template: string
  replicas: string
  batch_rows: string
  batch_wait: string
}

/** How many processes run a version, and whether they compute rows of several requests together. */
function RunnerFields({ value, onChange }: { value: RunnerDraft; onChange: (v: RunnerDraft) => void }) {
  const templates = useTemplates().data?.items ?? []
  return (
    <>
      {templates.length > 0 && (
        <Field label="Served by">
          <select
            className={inputLook}
            value={value.template}
            onChange={(event) => onChange({ ...value, template: event.target.value })}
          >
            <option value="">the built-in model server</option>
            {templates.map((t) => (
              <option key={t.name} value={t.name}>
                {t.name}: {t.command.join(' ')}
              </option>
            ))}
          </select>
        </Field>
      )}
      <ReplicasField value={value.replicas} onChange={(replicas) => onChange({ ...value, replicas })} />
      <div className="grid grid-cols-2 gap-3">
        <TextField
          label="Rows computed together, at most (0: none)"
          value={value.batch_rows}
          onChange={(batch_rows) => onChange({ ...value, batch_rows })}
        />
        <TextField
          label="How long one waits for others, at most"
          value={value.batch_wait}
          onChange={(batch_wait) => onChange({ ...value, batch_wait })}
        />
      </div>
      <p className="text-ink-2 text-[13px]">
        It must have one file in ONNX or PMML that can be computed here; what cannot is refused by name. It is started
        again when it ends, found again when the service is, and must answer the sample request and its known answers.
      </p>
    </>
  )
}

/** How many processes there are: a number, or two. */
function ReplicasField({ value, onChange }: { value: string; onChange: (text: string) => void }) {
  return (
    <TextField
      label="Replicas: a number, or two between which it follows the load, such as 1..4"
      required
      value={value}
      onChange={onChange}
    />
  )
}

/** How many processes there are of what runs here. */
export function Replicas({ placement: p, done }: { placement: Placement; done: () => void }) {
  const change = useChangeAddresses(p.environment, p.version)
  const now = p.runner?.replicas ?? { least: 1, most: 1 }
  const [replicas, setReplicas] = useState(now.most > now.least ? `${now.least}..${now.most}` : String(now.least))
  const [reason, setReason] = useState('')
  return (
    <Form
      submit="Change the number"
      pending={change.isPending}
      error={change.error}
      onSubmit={() => change.mutate({ replicas, reason }, { onSuccess: done })}
    >
      <ReplicasField value={replicas} onChange={setReplicas} />
      <TextField label="Why the number changes" value={reason} onChange={setReason} />
    </Form>
  )
}

function Placed({ placement: p, done }: { placement: Placement; done: () => void }) {
  return (
    <div className="grid gap-3">
      <p>
        <b>{p.version}</b> is placed in {p.environment}:{' '}
        {p.elsewhere
          ? 'it answers where the gateway does not reach.'
          : `${p.addresses.map((a) => a.url).join(', ')} answered as promised.`}
      </p>
      {p.fits?.map((f) => (
        <p key={f.endpoint}>
          <Tag tone={f.verdict === 'breaking' ? 'bad' : 'main'}>{f.verdict}</Tag> with contract {f.contract} of{' '}
          {f.endpoint}
        </p>
      ))}
      <div className="flex justify-end">
        <Button look="go" onClick={done}>
          Good
        </Button>
      </div>
    </div>
  )
}

/** Addresses come and go while the version answers. */
export function Addresses({ placement: p, done }: { placement: Placement; done: () => void }) {
  const change = useChangeAddresses(p.environment, p.version)
  const [add, setAdd] = useState('')
  const [gone, setGone] = useState<string[]>([])
  const [reason, setReason] = useState('')
  return (
    <Form
      submit={change.isPending ? 'Asking the servers…' : 'Change them'}
      pending={change.isPending}
      error={change.error}
      onSubmit={() => change.mutate({ add: itemsIn(add), remove: gone, reason }, { onSuccess: done })}
    >
      <div className="grid gap-1">
        {p.addresses.map((a) => (
          <label key={a.url} className="inline-flex items-center gap-2">
            <input
              type="checkbox"
              checked={!gone.includes(a.url)}
              onChange={(event) => setGone(event.target.checked ? gone.filter((u) => u !== a.url) : [...gone, a.url])}
            />
            <code className="text-[13px]">{a.url}</code>
            {gone.includes(a.url) && <span className="text-bad text-[12.5px]">is asked no more</span>}
          </label>
        ))}
      </div>
      <TextField
        label="More addresses, one a line"
        rows={2}
        placeholder="http://10.2.0.8:9000"
        value={add}
        onChange={setAdd}
      />
      <TextField label="Why the addresses change" value={reason} onChange={setReason} />
    </Form>
  )
}
