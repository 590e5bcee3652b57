import type { Version } from '../api/client'
import { TableHead } from '../ui/table-head'
import { rangeText, typeText } from './type-text'

/** What goes in and what comes out. */
export function SignatureTable({ signature }: { signature: NonNullable<Version['signature']> }) {
  const columns = [
    ...signature.inputs.map((c) => ({ ...c, side: 'input' })),
    ...signature.outputs.map((c) => ({ ...c, side: 'output' })),
  ]
  return (
    <div className="overflow-x-auto">
      <table className="w-full">
        <TableHead columns={['column', 'side', 'type', 'unit', 'range or levels']} />
        <tbody>
          {columns.map((c) => (
            <tr key={`${c.side} ${c.name}`} className="border-line border-t *:py-1.5 *:pr-4">
              <td className="font-medium">{c.name}</td>
              <td>{c.side}</td>
              <td>
                {typeText(c)}
                {c.parts && ` of ${c.parts.join(', ')}`}
                {c.nullable && ', may be missing'}
                {c.sensitive && ', sensitive'}
              </td>
              <td>{c.unit ?? '–'}</td>
              <td>{rangeText(c)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}
