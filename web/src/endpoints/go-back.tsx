import { useState } from 'react'

import type { Endpoint, Split } from '../api/client'
import { useBack, useSplits } from '../api/queries'
import { laneShare, short } from '../ui/format'
import { Choice, Sheet } from '../ui/overlays'
import { Ago, Button, Field, Problem, TextField } from '../ui/parts'

/** The way back, which says where it leads; it is not there when nothing would change. */
export function BackSheet({ endpoint }: { endpoint: Endpoint }) {
  const [open, setOpen] = useState(false)
  const now = endpoint.split
  const before = (useSplits(endpoint.name).data?.items ?? []).filter(
    (s) => s.number < (now?.number ?? 0) && lanesText(s) !== (now && lanesText(now)),
  )
  if (before.length === 0) return null
  return (
    <Sheet
      title={`Take ${endpoint.name} back`}
      open={open}
      onOpenChange={setOpen}
      trigger={
        <Button look="back">
          {endpoint.back ? `Back to #${endpoint.back.number}: ${lanesText(endpoint.back)}` : 'Return to a split…'}
        </Button>
      }
    >
      <BackForm endpoint={endpoint} before={before} done={() => setOpen(false)} />
    </Sheet>
  )
}

const lanesText = (s: Split) =>
  s.lanes.map((l) => `${short(l.version)} ${laneShare(l)}${l.kind === 'trial' ? ' trial' : ''}`).join(', ')

function BackForm({ endpoint, before, done }: { endpoint: Endpoint; before: Split[]; done: () => void }) {
  const [to, setTo] = useState(String(endpoint.back?.number ?? ''))
  const left = before.find((s) => String(s.number) === to)?.left
  const [reason, setReason] = useState('')
  const back = useBack(endpoint.name, endpoint.split?.number ?? 0)
  return (
    <form
      className="grid gap-4"
      onSubmit={(event) => {
        event.preventDefault()
        back.mutate({ to: Number(to), reason }, { onSuccess: done })
      }}
    >
      <Field label="To the split">
        <Choice
          label="To the split"
          value={to}
          onChange={setTo}
          options={before.map((s) => ({
            value: String(s.number),
            text: `#${s.number}: ${lanesText(s)}${s.left ? ', left for a reason' : ''}`,
          }))}
        />
      </Field>
      {!endpoint.back && (
        <p className="text-ink-2">
          What is in force is a way back itself, or nothing before it is free of a trial. Choose what to return to.
        </p>
      )}
      {left && (
        <p className="text-bad">
          {left.by} left it <Ago at={left.at} /> for #{left.for}: “{left.why}”
        </p>
      )}
      <TextField label="Why" required placeholder="complaints from the harbour" value={reason} onChange={setReason} />
      {back.error && <Problem error={back.error} />}
      <div className="flex justify-end">
        <Button look="back" type="submit" disabled={back.isPending || to === ''}>
          {to ? `Go back to #${to}` : 'Go back'}
        </Button>
      </div>
    </form>
  )
}
