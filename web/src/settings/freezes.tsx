import { X } from 'lucide-react'
import type { Ladder } from '../api/client'
import { Button, Panel } from '../ui/parts'
import { TextInput, Texts } from './ladder-fields'

type Freeze = NonNullable<Ladder['freezes']>[number]

export function Freezes({ freezes, onChange }: { freezes: Freeze[]; onChange: (f: Freeze[]) => void }) {
  return (
    <Panel title="Change freezes">
      <p className="text-ink-2 mb-2 text-[13px]">
        Windows in which nothing steps on a rung whose gate has the requirement “no freeze”. With days they come every
        week, and the times are times of day.
      </p>
      <ul className="grid gap-2">
        {freezes.map((f, i) => {
          const set = (next: Partial<Freeze>) => onChange(freezes.map((x, j) => (j === i ? { ...x, ...next } : x)))
          return (
            <li key={i} className="bg-paper flex flex-wrap items-center gap-2 rounded-md px-2.5 py-1.5">
              <TextInput label="Name of the freeze" narrow value={f.name} onCommit={(name) => set({ name })} />
              from{' '}
              <TextInput
                label="From"
                narrow
                value={f.from}
                placeholder="2026-12-20 16:00"
                onCommit={(from) => set({ from })}
              />
              to{' '}
              <TextInput label="To" narrow value={f.to} placeholder="2027-01-06 08:00" onCommit={(to) => set({ to })} />
              <TextInput
                label="Time zone"
                narrow
                value={f.zone}
                placeholder="Europe/Stockholm"
                onCommit={(zone) => set({ zone })}
              />
              <Texts
                label="Days"
                value={f.days ?? []}
                placeholder="once; or mon, fri"
                onCommit={(days) => set({ days: days.length ? (days as Freeze['days']) : undefined })}
              />
              <button
                type="button"
                className="text-ink-2 cursor-pointer p-1"
                aria-label={`Remove the freeze ${f.name}`}
                onClick={() => onChange(freezes.filter((_, j) => j !== i))}
              >
                <X size={14} />
              </button>
            </li>
          )
        })}
      </ul>
      <Button
        className="mt-2 px-2 py-0.5"
        onClick={() =>
          onChange([...freezes, { name: 'holidays', zone: 'UTC', from: '2026-12-20 16:00', to: '2027-01-06 08:00' }])
        }
      >
        Add a freeze
      </Button>
    </Panel>
  )
}
