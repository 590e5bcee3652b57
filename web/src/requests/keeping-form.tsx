import { useState } from 'react'

import type { Endpoint, Keeping } from '../api/client'
import { useEditEndpoint } from '../api/places'
import { Form } from '../ui/form'
import { itemsIn } from '../ui/format'
import { TextField } from '../ui/parts'

const patterns = (k: Keeping, how: 'hide' | 'hash') =>
  k.columns
    .filter((c) => c.how === how)
    .map((c) => c.pattern)
    .join(', ')

/** What an endpoint keeps of requests from now on. */
export function KeepingForm({ endpoint: e, done }: { endpoint: Endpoint; done: () => void }) {
  const edit = useEditEndpoint(e.name)
  const [share, setShare] = useState(String(e.requests.share / 100))
  const [perSecond, setPerSecond] = useState(String(e.requests.per_second))
  const [bytes, setBytes] = useState(String(e.requests.bytes))
  const [age, setAge] = useState(e.requests.for)
  const [hide, setHide] = useState(patterns(e.requests, 'hide'))
  const [hash, setHash] = useState(patterns(e.requests, 'hash'))
  const [reason, setReason] = useState('')
  const rules = (text: string, how: 'hide' | 'hash') => itemsIn(text).map((pattern) => ({ pattern, how }))
  return (
    <Form
      submit="Keep it so"
      pending={edit.isPending}
      error={edit.error}
      onSubmit={() =>
        edit.mutate(
          {
            requests: {
              share: Math.round(Number(share) * 100),
              per_second: Number(perSecond),
              bytes: Number(bytes),
              for: age.trim(),
              columns: [...rules(hide, 'hide'), ...rules(hash, 'hash')],
            },
            reason,
          },
          { onSuccess: done },
        )
      }
    >
      <p className="text-ink-2">
        Failures, refusals and what another version answered are always kept. What is in the log already stays as it is
        until its day is over.
      </p>
      <div className="grid grid-cols-2 items-end gap-4">
        <TextField label="Per cent of all others" value={share} onChange={setShare} />
        <TextField label="At most about so many a second, 0 for all" value={perSecond} onChange={setPerSecond} />
        <TextField label="Bodies up to so many bytes" value={bytes} onChange={setBytes} />
        <TextField label="For how long, such as 168h" value={age} onChange={setAge} />
      </div>
      <TextField label="Columns whose values are left out; * stands for any letters" value={hide} onChange={setHide} />
      <TextField
        label="Columns of which a keyed hash is kept, so that equal values are told"
        value={hash}
        onChange={setHash}
      />
      <TextField label="Why" value={reason} onChange={setReason} />
    </Form>
  )
}
