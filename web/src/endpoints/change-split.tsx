import { useState } from 'react'

import type { Endpoint, Lane, Split } from '../api/client'
import { useBack, usePlacements, useSplit, useSplits } from '../api/queries'
import { classes } from '../ui/classes'
import { share, short } from '../ui/format'
import { Choice, Sheet } from '../ui/overlays'
import { Ago, Button, Field, inputLook, Problem, TextField } from '../ui/parts'
import { fromRuleDraft, toRuleDraft } from './rule-draft'
import { RuleEditor } from './rules'

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
  const [rules, setRules] = useState(() => (endpoint.split?.rules ?? []).map(toRuleDraft))
  const [reason, setReason] = useState('')
  const make = useSplit(endpoint.name, endpoint.split?.number ?? 0)
  const lanes: Lane[] = placed
    .filter((p) => p.version === main || Number(draft[p.version]) > 0 || rules.some((r) => r.version === p.version))
    .map((p) => ({
      version: p.version,
      share: Math.round(Number(draft[p.version] ?? 0) * 100),
      kind: p.version === main ? 'main' : 'trial',
    }))
  const total = lanes.reduce((sum, l) => sum + l.share, 0)
  const others = placed.filter((p) => p.version !== main)
  /** One version gets a share, and main the rest. */
  const give = (version: string, percent: number) =>
    setDraft({
      ...Object.fromEntries(placed.map((p) => [p.version, '0'])),
      [version]: String(percent),
      [main]: String(100 - percent),
    })
  return (
    <form
      className="grid gap-4"
      onSubmit={(event) => {
        event.preventDefault()
        make.mutate({ lanes, rules: rules.map(fromRuleDraft), reason }, { onSuccess: done })
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
      {others.slice(-1).map((p) => (
        <div key={p.version} className="text-ink-2 flex flex-wrap items-center gap-1.5 text-[13px]">
          {short(p.version)} gets
          {[1, 5, 25, 50].map((percent) => (
            <Button key={percent} onClick={() => give(p.version, percent)}>
              {percent} %
            </Button>
          ))}
          <Button onClick={() => give(p.version, 0)}>nothing</Button> and {short(main)} the rest
        </div>
      ))}
      <div className="flex h-9 gap-0.5" role="img" aria-label="The split to scale">
        {lanes
          .filter((l) => l.share > 0)
          .map((l) => (
            <div
              key={l.version}
              style={{ flexGrow: l.share, flexBasis: 0 }}
              className={classes(
                'min-w-0.5 overflow-hidden rounded-md border-[1.5px] px-2 py-1 text-[12.5px] whitespace-nowrap',
                l.kind === 'main' ? 'border-main bg-main-soft' : 'border-trial-line hatched',
              )}
            >
              {short(l.version)} {share(l.share)}
            </div>
          ))}
      </div>
      <p className={total === 10_000 ? 'text-ink-2' : 'text-bad'} role="status">
        The shares add up to {share(total)}
        {total !== 10_000 && '; they must add up to 100 %'}.
      </p>
      <RuleEditor rules={rules} versions={placed.map((p) => p.version)} onChange={setRules} />
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
  s.lanes.map((l) => `${short(l.version)} ${share(l.share)}${l.kind === 'trial' ? ' trial' : ''}`).join(', ')

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
