import { useState } from 'react'

import type { Contract, Endpoint } from '../api/client'
import { useMay } from '../api/people'
import { useContracts, useMakeContract, usePlacements } from '../api/queries'
import { SignatureTable } from '../models/signature-table'
import { short } from '../ui/format'
import { Choice, Sheet } from '../ui/overlays'
import { Ago, Button, Empty, Field, Loaded, Panel, Problem, Ref, TextField } from '../ui/parts'

/** What the callers of an endpoint rely on: the contract in force, and those before and after it. */
export function ContractPanel({ endpoint }: { endpoint: Endpoint }) {
  const contracts = useContracts(endpoint.name)
  const mayRoute = useMay('route', endpoint.project)
  return (
    <Panel title="What callers rely on">
      <Loaded query={contracts}>
        {({ items }) => {
          const inForce = items.find((c) => c.in_force)
          return (
            <div className="grid gap-3">
              {inForce ? (
                <InForce contract={inForce} />
              ) : (
                <Empty>
                  No contract is in force yet: the next split brings the signature of the version that answers.
                </Empty>
              )}
              <Others items={items.filter((c) => c !== inForce)} now={inForce?.number ?? 0} />
              {mayRoute && (
                <div>
                  <DecideSheet endpoint={endpoint} />
                </div>
              )}
            </div>
          )
        }}
      </Loaded>
    </Panel>
  )
}

function InForce({ contract: c }: { contract: Contract }) {
  return (
    <>
      <p>
        <b>{`Contract ${c.number}`}</b>, the signature of <Ref to={c.version}>{short(c.version)}</Ref>, since{' '}
        <Ago at={c.made_at} /> by {c.author}: “{c.reason}” <Schema contract={c} />
      </p>
      <SignatureTable signature={c.signature} />
    </>
  )
}

function Schema({ contract: c }: { contract: Contract }) {
  const at = `/api/v1/endpoints/${c.endpoint}/contracts/${c.number}/schema`
  return (
    <span className="text-[13px]">
      JSON Schema of{' '}
      <a className="underline underline-offset-3" href={at}>
        requests
      </a>{' '}
      and{' '}
      <a className="underline underline-offset-3" href={`${at}?side=answer`}>
        answers
      </a>
    </span>
  )
}

/** Contracts that are decided for the next split, and those of before. */
function Others({ items, now }: { items: Contract[]; now: number }) {
  return items.map((c) => (
    <details key={c.number} className="border-line border-t pt-2">
      <summary className="cursor-pointer">
        {`Contract ${c.number}, from ${short(c.version)}`}{' '}
        <span className={c.number > now ? 'text-trial' : 'text-ink-2'}>
          {c.number > now ? 'decided: in force with the next split whose versions keep it' : 'before'}
        </span>{' '}
        <span className="text-ink-2">
          <Ago at={c.made_at} /> by {c.author}: “{c.reason}”
        </span>
      </summary>
      <Schema contract={c} />
      <SignatureTable signature={c.signature} />
    </details>
  ))
}

function DecideSheet({ endpoint }: { endpoint: Endpoint }) {
  const [open, setOpen] = useState(false)
  return (
    <Sheet
      title={`Decide what callers of ${endpoint.name} rely on`}
      open={open}
      onOpenChange={setOpen}
      trigger={<Button>Decide a new contract</Button>}
    >
      <DecideForm endpoint={endpoint} done={() => setOpen(false)} />
    </Sheet>
  )
}

function DecideForm({ endpoint, done }: { endpoint: Endpoint; done: () => void }) {
  const placed = (usePlacements().data?.items ?? []).filter(
    (p) => p.environment === endpoint.environment && p.version.startsWith(`${endpoint.model}@`),
  )
  const [chosen, setChosen] = useState('')
  const version = chosen || (placed.at(-1)?.version ?? '')
  const [reason, setReason] = useState('')
  const make = useMakeContract(endpoint.name)
  return (
    <form
      className="grid gap-4"
      onSubmit={(event) => {
        event.preventDefault()
        make.mutate({ version, reason }, { onSuccess: done })
      }}
    >
      <p className="text-ink-2">
        Callers must send and read what the contract says. It comes into force with the next split all of whose versions
        keep it; until then the one of today holds.
      </p>
      {placed.length === 0 ? (
        <p>
          No version of {endpoint.model} is placed in {endpoint.environment}. Place one first.
        </p>
      ) : (
        <Field label="The signature of">
          <Choice
            label="The signature of"
            value={version}
            onChange={setChosen}
            options={placed.map((p) => ({ value: p.version, text: p.version }))}
          />
        </Field>
      )}
      <TextField
        label="Why, and what callers were told"
        required
        placeholder="the planning tool sends humidity from 1 December"
        value={reason}
        onChange={setReason}
      />
      {make.error && <Problem error={make.error} />}
      <div className="flex justify-end">
        <Button look="go" type="submit" disabled={make.isPending || version === ''}>
          Make it the contract
        </Button>
      </div>
    </form>
  )
}
