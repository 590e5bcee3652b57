import { ArrowDown, ArrowUp, X } from 'lucide-react'
import type { Requirement, Rung } from '../api/client'
import { useRequirementKinds } from '../api/ladder'
import { words } from '../ui/format'
import { Choice } from '../ui/overlays'
import { TextInput, Texts, Tickbox } from './ladder-fields'
import { RequirementEditor } from './requirement-editor'

export function RungEditor({
  rung,
  lowest,
  highest,
  onChange,
  onMove,
}: {
  rung: Rung
  lowest: boolean
  highest: boolean
  onChange: (r: Rung | undefined) => void
  onMove: (by: number) => void
}) {
  const kinds = useRequirementKinds().data ?? []
  const small = 'cursor-pointer p-1 disabled:opacity-30 disabled:cursor-default text-ink-2 hover:text-ink'
  return (
    <div className="border-line-strong rounded-md border-b-[5px] border-x-[3px] px-3 pt-1 pb-3" data-rung={rung.name}>
      <div className="flex flex-wrap items-center gap-2">
        <TextInput label="Name of the rung" narrow value={rung.name} onCommit={(name) => onChange({ ...rung, name })} />
        <TextInput
          label="What it means"
          value={rung.meaning ?? ''}
          placeholder="what it means to stand here"
          onCommit={(meaning) => onChange({ ...rung, meaning: meaning || undefined })}
        />
        <span className="ml-auto flex">
          <button
            type="button"
            className={small}
            aria-label={`${rung.name} up`}
            disabled={highest}
            onClick={() => onMove(1)}
          >
            <ArrowUp size={15} />
          </button>
          <button
            type="button"
            className={small}
            aria-label={`${rung.name} down`}
            disabled={lowest}
            onClick={() => onMove(-1)}
          >
            <ArrowDown size={15} />
          </button>
          <button
            type="button"
            className={small}
            aria-label={`Remove ${rung.name}`}
            onClick={() => onChange(undefined)}
          >
            <X size={15} />
          </button>
        </span>
      </div>
      {!lowest && (
        <>
          <div className="text-ink-2 mt-2 flex flex-wrap items-center gap-x-4 gap-y-2 text-[13px]">
            <Tickbox
              label="holds one version"
              on={!!rung.holds_one}
              onChange={(on) => onChange({ ...rung, holds_one: on || undefined, displaced: undefined })}
            />
            {rung.holds_one && (
              <Choice
                label="Where the other goes"
                value={rung.displaced ?? 'below'}
                options={[
                  { value: 'below', text: 'the other steps down a rung' },
                  { value: 'retired', text: 'the other is retired' },
                ]}
                onChange={(v) => onChange({ ...rung, displaced: v === 'below' ? undefined : (v as 'retired') })}
              />
            )}
            <Tickbox
              label="rungs below may be skipped"
              on={!!rung.skip}
              onChange={(on) => onChange({ ...rung, skip: on || undefined })}
            />
            <span className="inline-flex items-center gap-1.5">
              asked for by{' '}
              <Texts
                label="Roles that may ask"
                value={rung.ask ?? []}
                placeholder="anyone who may"
                onCommit={(ask) => onChange({ ...rung, ask: ask.length ? ask : undefined })}
              />
            </span>
            <span className="inline-flex items-center gap-1.5">
              signed by{' '}
              <Texts
                label="Roles that may sign"
                value={rung.sign ?? []}
                placeholder="anyone who may"
                onCommit={(sign) => onChange({ ...rung, sign: sign.length ? sign : undefined })}
              />
            </span>
          </div>
          <ul className="mt-2 grid gap-2">
            {rung.gate.map((q, i) => (
              <RequirementEditor
                key={`${q.kind} ${i}`}
                requirement={q}
                info={kinds.find((k) => k.kind === q.kind)}
                onChange={(next) =>
                  onChange({
                    ...rung,
                    gate: next ? rung.gate.map((g, j) => (j === i ? next : g)) : rung.gate.filter((_, j) => j !== i),
                  })
                }
              />
            ))}
          </ul>
          <div className="mt-2">
            <Choice
              label={`Add a requirement to ${rung.name}`}
              value=""
              options={kinds.map((k) => ({ value: k.kind, text: `${words(k.kind)}: ${k.what}` }))}
              onChange={(kind) =>
                onChange({
                  ...rung,
                  gate: [
                    ...rung.gate,
                    { kind: kind as Requirement['kind'], ...(kind === 'sign_offs' ? { count: 1 } : {}) },
                  ],
                })
              }
            />
          </div>
        </>
      )}
    </div>
  )
}
