import type { Version } from '../api/client'
import { inputLook } from '../ui/parts'
import { rangeText } from '../models/type-text'
import type { Part } from './request'

type Column = NonNullable<Version['signature']>['inputs'][number]

/** A row as a form made from the signature: types, units, ranges, levels. */
export function RowForm({
  parts,
  columns,
  texts,
  wrong,
  onChange,
}: {
  parts: Part[]
  columns: Column[]
  texts: Record<string, string>
  wrong: (p: Part) => boolean
  onChange: (key: string, text: string) => void
}) {
  return (
    <div className="grid gap-x-4 gap-y-2.5 sm:grid-cols-2">
      {parts.map((p) => {
        const column = columns.find((c) => c.name === p.key) ?? columns.find((c) => c.name === p.input)
        return (
          <label key={p.key} className="grid gap-0.5">
            <span className="text-[13px]">
              <b className="font-medium">{p.key}</b>
              {column?.unit && <span className="text-ink-2"> in {column.unit}</span>}{' '}
              <span className="text-ink-3 text-[12px]">
                {p.datatype}
                {column && rangeText(column) !== '–' && `, ${rangeText(column)}`}
              </span>
            </span>
            {p.datatype === 'BOOL' || column?.levels ? (
              <select
                className={inputLook}
                name={p.key}
                value={texts[p.key] ?? ''}
                onChange={(e) => onChange(p.key, e.target.value)}
              >
                {choices(column, texts[p.key] ?? '').map((v) => (
                  <option key={v}>{v}</option>
                ))}
              </select>
            ) : (
              <input
                className={inputLook}
                name={p.key}
                inputMode={p.datatype === 'BYTES' ? 'text' : 'decimal'}
                aria-invalid={wrong(p)}
                value={texts[p.key] ?? ''}
                onChange={(e) => onChange(p.key, e.target.value)}
              />
            )}
            {wrong(p) && <span className="text-bad text-[12.5px]">✕ is no {p.datatype}</span>}
          </label>
        )
      })}
    </div>
  )
}

const choices = (column: Column | undefined, now: string) => [
  ...new Set([now, ...(column?.levels ?? ['true', 'false'])]),
]
