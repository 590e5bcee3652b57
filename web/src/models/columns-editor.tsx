import { Choice } from '../ui/overlays'
import { inputLook } from '../ui/parts'
import { TableHead } from '../ui/table-head'
import { type Column, type EditedColumn } from './registering'
import { rangeText, typeText } from './type-text'

const types: Column['type'][] = ['number', 'integer', 'boolean', 'text']

/** What goes in and what comes out, as it was read off the files, to be set right. */
export function ColumnsEditor({
  columns,
  onChange,
}: {
  columns: EditedColumn[]
  onChange: (columns: EditedColumn[]) => void
}) {
  const set = (at: number, to: Partial<EditedColumn>) =>
    onChange(columns.map((c, i) => (i === at ? { ...c, ...to } : c)))
  return (
    <div className="max-h-[32rem] overflow-auto">
      <table className="w-full">
        <TableHead columns={['column', 'output', 'type', 'unit', 'may be missing', 'range or levels']} />
        <tbody>
          {columns.map(({ column: c, output }, i) => (
            <tr key={c.name} className="border-line border-t *:py-1 *:pr-3">
              <td className="font-medium">{c.name}</td>
              <td>
                <input
                  type="checkbox"
                  aria-label={`${c.name} is an output`}
                  checked={output}
                  onChange={(event) => set(i, { output: event.target.checked })}
                />
              </td>
              <td>
                {c.datatype ? (
                  <span className="text-[13px]">{typeText(c)}</span>
                ) : (
                  <Choice
                    label={`Type of ${c.name}`}
                    value={c.type}
                    options={types.map((t) => ({ value: t, text: t }))}
                    onChange={(type) => set(i, { column: { ...c, type: type as Column['type'] } })}
                  />
                )}
              </td>
              <td>
                <input
                  className={`${inputLook} max-w-28 min-w-12`}
                  aria-label={`Unit of ${c.name}`}
                  placeholder="–"
                  value={c.unit ?? ''}
                  onChange={(event) => set(i, { column: { ...c, unit: event.target.value } })}
                />
              </td>
              <td>
                <input
                  type="checkbox"
                  aria-label={`${c.name} may be missing`}
                  checked={c.nullable}
                  onChange={(event) => set(i, { column: { ...c, nullable: event.target.checked } })}
                />
              </td>
              <td className="text-ink-2 text-[13px]">{rangeText(c)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}
