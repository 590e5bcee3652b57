import { useState } from 'react'

import type { Placement, Version } from '../api/client'
import { useMay } from '../api/people'
import { useConfirmAnswers, usePlacements } from '../api/queries'
import { number } from '../ui/format'
import { Sheet } from '../ui/overlays'
import { Ago, Button, Empty, Panel, Problem, TextField } from '../ui/parts'
import { TableHead } from '../ui/table-head'

type Case = NonNullable<Version['known_answers']>['cases'][number]

/** What a version must answer, by which every address proves that it runs this version. */
export function KnownAnswers({ version: v }: { version: Version }) {
  const mayPlace = useMay('place', v.project)
  const heard = (usePlacements().data?.items ?? []).filter((p) => p.version === v.ref && p.heard)
  const known = v.known_answers
  return (
    <Panel title="Known answers">
      {known ? (
        <>
          <p className="text-ink-2 mb-2">
            Every address proves by them that it runs this version: when it is placed, and when it comes back.
            {` They were ${known.origin} by ${known.by}, `}
            <Ago at={known.at} />; a number may be off by {known.tolerance} and a hundred-thousandth of itself.
          </p>
          <CaseTable cases={known.cases} />
        </>
      ) : (
        <Empty>
          None are known, so nothing proves that a server which fits the signature runs this version. Register it again
          with a file of answers: the same content takes them.
        </Empty>
      )}
      {!known && mayPlace && heard.map((p) => <ConfirmSheet key={p.id} version={v} placement={p} />)}
    </Panel>
  )
}

const valueText = (x: unknown) => (typeof x === 'number' ? number(x) : String(x))

function CaseTable({ cases }: { cases: Case[] }) {
  return (
    <div className="max-h-80 overflow-auto">
      <table className="w-full">
        <TableHead columns={['asked', 'must answer']} />
        <tbody>
          {cases.map((c, i) => (
            <tr key={i} className="border-line border-t align-top text-[13px] *:py-1.5 *:pr-4">
              <td>
                {c.request === undefined ? (
                  Object.entries(c.inputs ?? {})
                    .map(([name, x]) => `${name} ${valueText(x)}`)
                    .join(', ')
                ) : (
                  <code className="break-all">{JSON.stringify(c.request)}</code>
                )}
              </td>
              <td className="font-medium">
                {Object.entries(c.outputs)
                  .map(([name, values]) => `${name} ${(values ?? []).map(valueText).join(' ')}`)
                  .join(', ')}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}

/** What was answered at a placement, for somebody to say that it is right. */
function ConfirmSheet({ version: v, placement: p }: { version: Version; placement: Placement }) {
  const [open, setOpen] = useState(false)
  const [reason, setReason] = useState('')
  const confirm = useConfirmAnswers(v.ref)
  return (
    <Sheet
      title={`Confirm what ${v.ref} answered in ${p.environment}`}
      open={open}
      onOpenChange={setOpen}
      trigger={<Button>Confirm what it answered in {p.environment}</Button>}
    >
      <form
        className="grid gap-4"
        onSubmit={(event) => {
          event.preventDefault()
          confirm.mutate({ environment: p.environment, reason }, { onSuccess: () => setOpen(false) })
        }}
      >
        <p className="text-ink-2">
          This is what came back when it was placed. From now on it must answer so, wherever it runs.
        </p>
        {p.heard && <CaseTable cases={[p.heard]} />}
        <TextField
          label="How you know that it is right"
          required
          placeholder="checked by hand against the notebook"
          value={reason}
          onChange={setReason}
        />
        {confirm.error && <Problem error={confirm.error} />}
        <div className="flex justify-end">
          <Button look="go" type="submit" disabled={confirm.isPending}>
            It is right
          </Button>
        </div>
      </form>
    </Sheet>
  )
}
