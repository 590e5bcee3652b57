import { useState } from 'react'

import type { Environment, Placement } from '../api/client'
import { useChangeAddresses, usePlace } from '../api/places'
import { useModels } from '../api/queries'
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

/** A version is placed after its servers were asked; what they lack is said here. */
export function Place({ environment: e, done }: { environment: Environment; done: () => void }) {
  const place = usePlace(e.name)
  const refs = useRefs(e)
  const [version, setVersion] = useState('')
  const [at, setAt] = useState('')
  const [servedAs, setServedAs] = useState('')
  const [elsewhere, setElsewhere] = useState(false)
  if (place.data) return <Placed placement={place.data} done={done} />
  return (
    <Form
      submit={place.isPending ? 'Asking the servers…' : elsewhere ? 'Place it elsewhere' : 'Check and place'}
      pending={place.isPending}
      error={place.error}
      onSubmit={() =>
        place.mutate(
          elsewhere
            ? { version: version.trim(), elsewhere }
            : {
                version: version.trim(),
                addresses: itemsIn(at),
                ...(servedAs.trim() && { served_as: servedAs.trim() }),
              },
        )
      }
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
      <label className="inline-flex items-center gap-2">
        <input type="checkbox" checked={elsewhere} onChange={(event) => setElsewhere(event.target.checked)} />
        It answers elsewhere, where the gateway does not reach
      </label>
      {elsewhere ? (
        <p className="text-ink-2 text-[13px]">
          Nothing is asked of it. What it does is known from what innerladder agent reports beside it.
        </p>
      ) : (
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
