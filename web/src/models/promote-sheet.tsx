import { useState } from 'react'

import type { Version } from '../api/client'
import { useLadder, usePromote } from '../api/ladder'
import { useMay } from '../api/people'
import { Choice, Sheet } from '../ui/overlays'
import { Button, Field, Problem, TextField } from '../ui/parts'

/** Asks that a version step up; in an emergency, past the gate. */
export function PromoteSheet({ version: v }: { version: Version }) {
  const rungs = useLadder(v.project).data?.rungs ?? []
  const at = rungs.findIndex((r) => r.name === v.rung)
  const [open, setOpen] = useState(false)
  const [to, setTo] = useState<string>()
  const [note, setNote] = useState('')
  const [emergency, setEmergency] = useState(false)
  const promote = usePromote()
  const may = useMay('ask', v.project)
  const mayOverride = useMay('override', v.project)
  // The next rung, and those above it that let versions skip; in an emergency any.
  const above = rungs.filter((r, i) => i > at && (i === at + 1 || r.skip || emergency)).map((r) => r.name)
  if (!may || at < 0 || at === rungs.length - 1) return null
  const rung = to !== undefined && above.includes(to) ? to : (above.at(-1) ?? '')
  return (
    <Sheet
      title={`Ask for ${v.ref}`}
      open={open}
      onOpenChange={setOpen}
      trigger={<Button look="go">Ask for a higher rung</Button>}
    >
      <form
        className="grid gap-4"
        onSubmit={(event) => {
          event.preventDefault()
          promote.mutate(
            { version: v.ref, to: rung, note, emergency: emergency || undefined },
            { onSuccess: () => setOpen(false) },
          )
        }}
      >
        <Field label="To the rung">
          <Choice
            label="To the rung"
            value={rung}
            options={above.map((r) => ({ value: r, text: r }))}
            onChange={setTo}
          />
        </Field>
        <TextField
          label={emergency ? 'Why it cannot wait for its gate' : 'For those who sign'}
          rows={3}
          value={note}
          onChange={setNote}
        />
        {mayOverride && (
          <label className="flex items-start gap-2">
            <input
              type="checkbox"
              className="mt-1"
              checked={emergency}
              onChange={(event) => setEmergency(event.target.checked)}
            />
            <span>
              Emergency: carry it out now, past the gate.{' '}
              <span className="text-ink-2">It is marked, and someone else must review it afterwards.</span>
            </span>
          </label>
        )}
        {promote.error && <Problem error={promote.error} />}
        <div className="flex justify-end">
          <Button look={emergency ? 'back' : 'go'} type="submit" disabled={promote.isPending}>
            {emergency ? 'Carry it out now' : 'Ask'}
          </Button>
        </div>
      </form>
    </Sheet>
  )
}
