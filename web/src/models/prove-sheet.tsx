import { useState } from 'react'
import { useNavigate } from 'react-router'

import type { Version } from '../api/client'
import { useProve, type Proof } from '../api/jobs'
import { useEndpoints, usePlacements } from '../api/queries'
import { Form, FormSheet } from '../ui/form'
import { Choice } from '../ui/overlays'
import { Button, Field, TextField } from '../ui/parts'

/** What a version can be put to, and what each says. */
const proofs: Record<Proof, { text: string; says: string }> = {
  evaluate: { text: 'Evaluate it on a table', says: 'All rows are asked, and the answers are held against the truth.' },
  check: {
    text: 'Check what must come back',
    says: 'Its known answers are asked, and the cases of a YAML file; without a file, those of the model.',
  },
  robustness: {
    text: 'Test its robustness',
    says: 'Missing, extreme and unknown values, noise, other units, many rows and many requests at once.',
  },
  importance: {
    text: 'Find the inputs that it relies on',
    says: 'Over the rows of a table: how far predictions move and the error rises, and how they go with each input.',
  },
  replay: {
    text: 'Ask it what callers asked',
    says: 'Requests in the log of an endpoint are asked again, and both answers are held side by side.',
  },
}

const kinds = Object.keys(proofs) as Proof[]

/** Has the service prove a version: begins a job whose report becomes evidence, and goes to it. */
export function ProveSheet({ version: v }: { version: Version }) {
  return (
    <FormSheet title={`Prove ${v.ref}`} trigger={<Button look="go">Prove it</Button>}>
      {(done) => <ProveForm version={v} done={done} />}
    </FormSheet>
  )
}

/** What somebody fills in; each proof takes what it needs. */
interface Draft {
  target: string
  against: string
  limits: string
  like: string
  endpoint: string
  since: string
}

function ProveForm({ version: v, done }: { version: Version; done: () => void }) {
  const [proof, setProof] = useState<Proof>('robustness')
  const places = (usePlacements().data?.items ?? []).filter((p) => p.version === v.ref && !p.elsewhere)
  const endpoints = (useEndpoints().data?.items ?? []).filter((e) => e.model === v.model).map((e) => e.name)
  const [place, setPlace] = useState('')
  const [file, setFile] = useState<File>()
  const [draft, setDraft] = useState<Draft>({
    target: v.signature?.outputs[0]?.name ?? '',
    against: '',
    limits: '',
    like: '',
    endpoint: '',
    since: '24h',
  })
  const prove = useProve()
  const go = useNavigate()
  const environment = place || (places[0]?.environment ?? '')
  const endpoint = draft.endpoint || (endpoints[0] ?? '')
  const set = (name: keyof Draft) => (value: string) => setDraft({ ...draft, [name]: value })
  const table = proof === 'evaluate' || proof === 'importance'
  const lacks = (table && !file) || (proof === 'replay' && !endpoint)
  const taken: Record<Proof, Record<string, string>> = {
    evaluate: { target: draft.target, against: draft.against, at_most: draft.limits },
    importance: { target: draft.target },
    check: {},
    robustness: { like: draft.like, at_most: draft.limits },
    replay: { endpoint, since: draft.since, at_most: draft.limits },
  }
  return (
    <Form
      submit={prove.isPending ? 'Beginning …' : 'Begin'}
      pending={prove.isPending || lacks}
      error={prove.error}
      onSubmit={() =>
        prove.mutate(
          {
            proof,
            version: v.ref,
            environment,
            more: taken[proof],
            file: proof === 'robustness' || proof === 'replay' ? undefined : file,
          },
          {
            onSuccess: (j) => {
              done()
              void go(`/models/jobs/${j.id}`)
            },
          },
        )
      }
    >
      <Field label="How">
        <Choice
          label="How"
          value={proof}
          options={kinds.map((k) => ({ value: k, text: proofs[k].text }))}
          onChange={(k) => setProof(k as Proof)}
        />
      </Field>
      <p className="text-ink-2 text-[13.5px]">{proofs[proof].says}</p>
      {places.length > 1 && (
        <Field label="Where">
          <Choice
            label="Where"
            value={environment}
            options={places.map((p) => ({ value: p.environment, text: p.environment }))}
            onChange={setPlace}
          />
        </Field>
      )}
      {places.length === 0 && (
        <p className="text-ink-2 text-[13.5px]">It is placed nowhere, so a process is started for it.</p>
      )}
      {(table || proof === 'check') && (
        <Field
          label={table ? 'Rows: CSV, JSON lines or Parquet' : 'Cases, a YAML file; those of the model without one'}
        >
          <input type="file" aria-label="File" onChange={(event) => setFile(event.target.files?.[0])} />
        </Field>
      )}
      {table && (
        <TextField
          label={proof === 'evaluate' ? 'Column with the truth' : 'Column with the truth, if it is known'}
          required={proof === 'evaluate'}
          value={draft.target}
          onChange={set('target')}
        />
      )}
      {proof === 'evaluate' && (
        <TextField
          label="Held against: @1, @live, incumbent; nobody when empty"
          value={draft.against}
          onChange={set('against')}
        />
      )}
      {proof === 'robustness' && (
        <TextField
          label="Rows like those of: @1, @live; of who answers callers now when empty"
          value={draft.like}
          onChange={set('like')}
        />
      )}
      {proof === 'replay' && (
        <>
          <Field label="Endpoint whose requests they are">
            {endpoints.length === 0 ? (
              <span className="text-ink-2 text-[13.5px]">No endpoint is for {v.model}.</span>
            ) : (
              <Choice
                label="Endpoint"
                value={endpoint}
                options={endpoints.map((e) => ({ value: e, text: e }))}
                onChange={set('endpoint')}
              />
            )}
          </Field>
          <TextField label="How far back: 24h, yesterday" required value={draft.since} onChange={set('since')} />
        </>
      )}
      {proof !== 'importance' && proof !== 'check' && (
        <TextField
          label={`What may be at most, such as ${limits[proof]}`}
          value={draft.limits}
          onChange={set('limits')}
        />
      )}
      <p className="text-ink-2 text-[13px]">The report becomes evidence of {v.ref}, and cannot be taken away.</p>
    </Form>
  )
}

const limits = { evaluate: 'rmse=0.2,mae=0.1', robustness: 'noise=0.2,beyond=3', replay: 'disagreement=0.02' } as const
