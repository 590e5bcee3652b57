import { X } from 'lucide-react'
import type { KindInfo, Requirement } from '../api/client'
import { words } from '../ui/format'
import { Choice } from '../ui/overlays'
import { Button } from '../ui/parts'
import { TextInput, Texts, Tickbox } from './ladder-fields'

type Items = { name: string; text: string; link?: boolean }[]

/** One requirement: its kind and, made from the description of the kind, its settings. */
export function RequirementEditor({
  requirement: q,
  info,
  onChange,
}: {
  requirement: Requirement
  info: KindInfo | undefined
  onChange: (q: Requirement | undefined) => void
}) {
  const values = q as Record<string, unknown>
  const put = (name: string, value: unknown) => {
    const unset = value === undefined || value === '' || value === false
    onChange(
      Object.fromEntries([
        ...Object.entries(values).filter(([k]) => k !== name),
        ...(unset ? [] : [[name, value]]),
      ]) as Requirement,
    )
  }
  return (
    <li
      className="bg-paper relative flex flex-wrap items-center gap-x-3 gap-y-1.5 rounded-md py-1.5 pr-9 pl-2.5"
      data-requirement={q.kind}
    >
      <b className="font-medium" title={info?.what}>
        {words(q.kind)}
      </b>
      {info?.settings.map((s) => {
        const label = `${words(q.kind)}: ${words(s.name)}`
        const value = values[s.name]
        if (s.type === 'yes_no')
          return (
            <Tickbox
              key={s.name}
              label={words(s.name)}
              title={s.what}
              on={value === true}
              onChange={(on) => put(s.name, on)}
            />
          )
        if (s.type === 'items')
          return (
            <ItemsEditor
              key={s.name}
              items={(value as Items | undefined) ?? []}
              onChange={(items) => put(s.name, items)}
            />
          )
        return (
          <span key={s.name} className="inline-flex items-center gap-1.5 text-[13px]" title={s.what}>
            {s.name !== q.kind && <span className="text-ink-2">{words(s.name)}</span>}
            {s.among && s.type === 'text' ? (
              <Choice
                label={label}
                placeholder={s.name === q.kind ? 'choose' : 'not said'}
                value={(value as string | undefined) ?? ''}
                options={s.among.map((a) => ({ value: a, text: a }))}
                onChange={(v) => put(s.name, v)}
              />
            ) : s.type === 'texts' ? (
              <Texts
                label={label}
                value={(value as string[] | undefined) ?? []}
                onCommit={(v) => put(s.name, v.length ? v : undefined)}
              />
            ) : s.type === 'text' ? (
              <TextInput
                label={label}
                narrow
                value={(value as string | undefined) ?? ''}
                onCommit={(v) => put(s.name, v)}
              />
            ) : (
              <TextInput
                label={label}
                tiny
                value={value === undefined ? '' : String(value as number)}
                onCommit={(v) => put(s.name, v.trim() === '' || Number.isNaN(Number(v)) ? undefined : Number(v))}
              />
            )}
          </span>
        )
      })}
      <button
        type="button"
        className="text-ink-2 hover:text-ink absolute top-1.5 right-1.5 cursor-pointer p-1"
        aria-label={`Remove ${words(q.kind)}`}
        onClick={() => onChange(undefined)}
      >
        <X size={14} />
      </button>
    </li>
  )
}

function ItemsEditor({ items, onChange }: { items: Items; onChange: (items: Items) => void }) {
  return (
    <div className="grid w-full gap-1.5">
      {items.map((item, i) => {
        const set = (next: Partial<Items[number]>) => onChange(items.map((x, j) => (j === i ? { ...x, ...next } : x)))
        return (
          <div key={i} className="flex flex-wrap items-center gap-2">
            <TextInput label="Name of the item" narrow value={item.name} onCommit={(name) => set({ name })} />
            <TextInput
              label="What to look at"
              value={item.text}
              placeholder="what to look at"
              onCommit={(text) => set({ text })}
            />
            <Tickbox label="needs a link" on={!!item.link} onChange={(on) => set({ link: on || undefined })} />
            <button
              type="button"
              className="text-ink-2 cursor-pointer p-1"
              aria-label={`Remove the item ${item.name}`}
              onClick={() => onChange(items.filter((_, j) => j !== i))}
            >
              <X size={13} />
            </button>
          </div>
        )
      })}
      <Button
        className="justify-self-start px-2 py-0.5"
        onClick={() => onChange([...items, { name: `item-${items.length + 1}`, text: 'looked at it' }])}
      >
        Add an item
      </Button>
    </div>
  )
}
