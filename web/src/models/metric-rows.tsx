import { Trash2 } from 'lucide-react'

import { useVocabulary } from '../api/queries'
import { Choice } from '../ui/overlays'
import { inputLook, LinkButton } from '../ui/parts'
import { noMetric, type MetricRow } from './registering'

const ways = [
  { value: 'named', text: 'as its name says' },
  { value: 'lower', text: 'less is better' },
  { value: 'higher', text: 'more is better' },
]

/** What is claimed of a version: a name, a number, its unit, and which way is better. */
export function MetricRows({ rows, onChange }: { rows: MetricRow[]; onChange: (rows: MetricRow[]) => void }) {
  const known = useVocabulary().data?.metrics ?? []
  const set = (at: number, to: Partial<MetricRow>) => onChange(rows.map((r, i) => (i === at ? { ...r, ...to } : r)))
  const field = (at: number, member: 'name' | 'value' | 'unit', placeholder: string) => (
    <input
      className={inputLook}
      aria-label={`Metric ${at + 1}: ${member}`}
      placeholder={placeholder}
      list={member === 'name' ? 'known-metrics' : undefined}
      inputMode={member === 'value' ? 'decimal' : undefined}
      value={rows[at]?.[member] ?? ''}
      onChange={(event) => set(at, { [member]: event.target.value })}
    />
  )
  return (
    <fieldset className="grid gap-1.5">
      <legend className="text-ink-2 mb-1 text-[13px]">
        Metrics that are claimed; what a report measured counts more
      </legend>
      <datalist id="known-metrics">
        {known.map((m) => (
          <option key={m} value={m} />
        ))}
      </datalist>
      {rows.map((r, i) => (
        <div
          key={i}
          className="grid grid-cols-[minmax(0,1.4fr)_minmax(0,1fr)_minmax(0,0.7fr)_auto_auto] items-center gap-2"
        >
          {field(i, 'name', 'rmse')}
          {field(i, 'value', '0.38')}
          {field(i, 'unit', 'unit')}
          <Choice
            label={`Metric ${i + 1}: which way is better`}
            value={r.better || 'named'}
            options={ways}
            onChange={(way) => set(i, { better: way === 'named' ? '' : (way as MetricRow['better']) })}
          />
          <button
            type="button"
            className="text-ink-2 cursor-pointer"
            aria-label={`Leave metric ${i + 1} out`}
            onClick={() => onChange(rows.length > 1 ? rows.filter((_, k) => k !== i) : [noMetric])}
          >
            <Trash2 size={15} />
          </button>
        </div>
      ))}
      <p>
        <LinkButton onClick={() => onChange([...rows, noMetric])}>one more metric</LinkButton>
      </p>
    </fieldset>
  )
}
