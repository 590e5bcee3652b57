import { useState } from 'react'

import type { Endpoint, Lane, Split } from '../api/client'
import { usePlacements, useSplit } from '../api/queries'
import { classes } from '../ui/classes'
import { share, short } from '../ui/format'
import { Sheet } from '../ui/overlays'
import { Button, inputLook, Problem, TextField } from '../ui/parts'
import { fromRuleDraft, toRuleDraft } from './rule-draft'
import { RuleEditor } from './rules'
import { mainOf } from './main-of'

/** Shares as people type them: per cent by version. */
type Draft = Record<string, string>

const toDraft = (split: Split | undefined, copies: boolean): Draft =>
  Object.fromEntries(
    (split?.lanes ?? []).filter((l) => (l.kind === 'shadow') === copies).map((l) => [l.version, String(l.share / 100)]),
  )

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
  const [draft, setDraft] = useState<Draft>(() => toDraft(endpoint.split, false))
  const [copies, setCopies] = useState<Draft>(() => toDraft(endpoint.split, true))
  const [main, setMain] = useState(mainOf(endpoint) ?? placed[0]?.version ?? '')
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
  const shadows: Lane[] = placed
    .filter((p) => Number(copies[p.version]) > 0 && !lanes.some((l) => l.version === p.version))
    .map((p) => ({
      ...endpoint.split?.lanes.find((l) => l.kind === 'shadow' && l.version === p.version),
      version: p.version,
      share: Math.round(Number(copies[p.version]) * 100),
      kind: 'shadow',
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
        make.mutate({ lanes: [...lanes, ...shadows], rules: rules.map(fromRuleDraft), reason }, { onSuccess: done })
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
            <th className="text-right font-normal">copies, %</th>
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
              <td className="text-right">
                <input
                  className={`${inputLook} w-24! text-right disabled:opacity-40`}
                  type="number"
                  min={0}
                  max={100}
                  step={0.01}
                  disabled={lanes.some((l) => l.version === p.version)}
                  aria-label={`Copies for ${p.version} in per cent`}
                  value={copies[p.version] ?? '0'}
                  onChange={(event) => setCopies({ ...copies, [p.version]: event.target.value })}
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
        {total !== 10_000 && '; they must add up to 100 %'}
        {shadows.map((l) => `; ${short(l.version)} gets copies of ${share(l.share)} and answers nobody`)}.
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
