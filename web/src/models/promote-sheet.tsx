import { useState } from 'react'

import type { Version } from '../api/client'
import { useMay } from '../api/people'
import { useLadder, usePromote } from '../api/queries'
import { Choice, Sheet } from '../ui/overlays'
import { Button, Field, inputLook, Problem } from '../ui/parts'

/** Asks that a version step up. */
export function PromoteSheet({ version: v }: { version: Version }) {
  const rungs = useLadder().data?.rungs.map((r) => r.name) ?? []
  const above = rungs.slice(rungs.indexOf(v.rung) + 1)
  const [open, setOpen] = useState(false)
  const [to, setTo] = useState<string>()
  const [note, setNote] = useState('')
  const promote = usePromote()
  const may = useMay('ask', v.project)
  if (!may || above.length === 0 || !rungs.includes(v.rung)) return null
  const rung = to ?? above.at(-1) ?? ''
  return (
    <Sheet title={`Ask for ${v.ref}`} open={open} onOpenChange={setOpen} trigger={<Button look="go">Ask for a higher rung</Button>}>
      <form
        className="grid gap-4"
        onSubmit={(event) => {
          event.preventDefault()
          promote.mutate({ version: v.ref, to: rung, note }, { onSuccess: () => setOpen(false) })
        }}
      >
        <Field label="To the rung">
          <Choice label="To the rung" value={rung} options={above.map((r) => ({ value: r, text: r }))} onChange={setTo} />
        </Field>
        <Field label="For those who sign">
          <textarea className={inputLook} rows={3} value={note} onChange={(event) => setNote(event.target.value)} />
        </Field>
        {promote.error && <Problem error={promote.error} />}
        <div className="flex justify-end">
          <Button look="go" type="submit" disabled={promote.isPending}>
            Ask
          </Button>
        </div>
      </form>
    </Sheet>
  )
}
