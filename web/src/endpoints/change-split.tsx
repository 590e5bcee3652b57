import { useState } from 'react'

import type { Endpoint, Lane, Split } from '../api/client'
import { useBack, usePlacements, useSplit, useSplits } from '../api/queries'
import { share, short } from '../ui/format'
import { Choice, Sheet } from '../ui/overlays'
import { Button, Field, inputLook, Problem, TextField } from '../ui/parts'

/** Shares as people type them: per cent by version. */
type Draft = Record<string, string>

const toDraft = (split: Split | undefined): Draft =>
  Object.fromEntries((split?.lanes ?? []).map((l) => [l.version, String(l.share / 100)]))

export function SplitSheet({ endpoint }: { endpoint: Endpoint }) {
  const [open, setOpen] = useState(false)
  return (
    <Sheet
      title={`Change who answers for ${endpoint.name}`}
      open={open}
      onOpenChange={setOpen}
      trigger={<Button>Change the split</Button>}
    >
      <SplitForm endpoint={endpoint} done={() => setOpen(false)} />
    </Sheet>
  )
}

function SplitForm({ endpoint, done }: { endpoint: Endpoint; done: () => void }) {
  const placed = (usePlacements().data?.items ?? []).filter(
    (p) => p.environment === endpoint.environment && p.version.startsWith(`${endpoint.model}@`),
  )
  const [draft, setDraft] = useState<Draft>(() => toDraft(endpoint.split))
  const [main, setMain] = useState(
    endpoint.split?.lanes.find((l) => l.kind === 'main')?.version ?? placed[0]?.version ?? '',
  )
  const [reason, setReason] = useState('')
  const make = useSplit(endpoint.name, endpoint.split?.number ?? 0)
  const lanes: Lane[] = placed
    .filter((p) => p.version === main || Number(draft[p.version]) > 0)
    .map((p) => ({
      version: p.version,
      share: Math.round(Number(draft[p.version] ?? 0) * 100),
      kind: p.version === main ? 'main' : 'trial',
    }))
  const total = lanes.reduce((sum, l) => sum + l.share, 0)
  return (
    <form
      className="grid gap-4"
      onSubmit={(event) => {
        event.preventDefault()
        make.mutate({ lanes, reason }, { onSuccess: done })
      }}
    >
      {placed.length === 0 && (
        <p className="text-ink-2">
          No version of {endpoint.model} is placed in {endpoint.environment}. Place one first.
        </p>
      )}
      <table className="w-full">
        <thead className="text-ink-3 text-left text-[12px]">
          <tr>
            <th className="font-normal">version</th>
            <th className="font-normal">main</th>
            <th className="text-right font-normal">share, %</th>
          </tr>
        </thead>
        <tbody>
          {placed.map((p) => (
            <tr key={p.version} className="border-line border-t">
              <td className="py-1.5">
                {p.version} {!p.healthy && <span className="text-bad">✕ unhealthy</span>}
              </td>
              <td>
                <input
                  type="radio"
                  name="main"
                  aria-label={`${p.version} is main`}
                  checked={p.version === main}
                  onChange={() => setMain(p.version)}
                />
              </td>
              <td className="text-right">
                <input
                  className={`${inputLook} w-24! text-right`}
                  type="number"
                  min={0}
                  max={100}
                  step={0.01}
                  aria-label={`Share of ${p.version} in per cent`}
                  value={draft[p.version] ?? '0'}
                  onChange={(event) => setDraft({ ...draft, [p.version]: event.target.value })}
                />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className={total === 10_000 ? 'text-ink-2' : 'text-bad'} role="status">
        The shares add up to {share(total)}
        {total !== 10_000 && '; they must add up to 100 %'}.
      </p>
      <TextField label="Why" placeholder="so that others know at 3 a.m." value={reason} onChange={setReason} />
      {make.error && <Problem error={make.error} />}
      <div className="flex justify-end">
        <Button look="go" type="submit" disabled={total !== 10_000 || make.isPending}>
          Put in force
        </Button>
      </div>
    </form>
  )
}

export function BackSheet({ endpoint }: { endpoint: Endpoint }) {
  const [open, setOpen] = useState(false)
  const before = (useSplits(endpoint.name).data?.items ?? []).filter((s) => s.number < (endpoint.split?.number ?? 0))
  const suggested =
    before.find((s) => s.lanes.length === 1 && s.lanes[0]?.version !== endpoint.split?.lanes[0]?.version) ??
    before.find((s) => s.lanes.length === 1)
  const main = endpoint.split?.lanes.some((l) => l.kind === 'trial')
    ? before.find((s) => s.lanes.length === 1)
    : suggested
  const label = main?.lanes[0] ? `Back to ${short(main.lanes[0].version)}` : 'Back'
  return (
    <Sheet
      title={`Take ${endpoint.name} back`}
      open={open}
      onOpenChange={setOpen}
      trigger={<Button look="back">{label}</Button>}
    >
      <BackForm endpoint={endpoint} before={before} suggested={main} done={() => setOpen(false)} />
    </Sheet>
  )
}

function BackForm({
  endpoint,
  before,
  suggested,
  done,
}: {
  endpoint: Endpoint
  before: Split[]
  suggested: Split | undefined
  done: () => void
}) {
  const [to, setTo] = useState(String(suggested?.number ?? before[0]?.number ?? ''))
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
            text: `#${s.number}: ${s.lanes.map((l) => `${short(l.version)} ${share(l.share)}`).join(', ')}`,
          }))}
        />
      </Field>
      <TextField label="Why" required placeholder="complaints from the harbour" value={reason} onChange={setReason} />
      {back.error && <Problem error={back.error} />}
      <div className="flex justify-end">
        <Button look="back" type="submit" disabled={back.isPending || to === ''}>
          Go back to #{to}
        </Button>
      </div>
    </form>
  )
}
