import {
  createSortedRowModel,
  rowSortingFeature,
  sortFns,
  tableFeatures,
  useTable,
  type ColumnDef,
  type RowData,
} from '@tanstack/react-table'
import { ArrowDown, ArrowUp } from 'lucide-react'

const features = tableFeatures({ rowSortingFeature, sortedRowModel: createSortedRowModel(), sortFns })

export type Columns<T extends RowData> = ColumnDef<typeof features, T>[]

/** A table whose columns sort; the first column is to the left, numbers to the right. */
export function DataTable<T extends RowData>({
  data,
  columns,
  label,
}: {
  data: T[]
  columns: Columns<T>
  label: string
}) {
  const table = useTable({ features, columns, data })
  return (
    <div className="overflow-x-auto">
      <table className="w-full border-collapse" aria-label={label}>
        <thead>
          {table.getHeaderGroups().map((group) => (
            <tr key={group.id}>
              {group.headers.map((header, i) => {
                const sorted = header.column.getIsSorted()
                const text = header.isPlaceholder ? null : <table.FlexRender header={header} />
                return (
                  <th
                    key={header.id}
                    aria-sort={sorted === 'asc' ? 'ascending' : sorted === 'desc' ? 'descending' : undefined}
                    className={`text-ink-3 px-1.5 py-1.5 text-[12px] font-normal whitespace-nowrap ${i === 0 ? 'text-left' : 'text-right'}`}
                  >
                    {header.column.getCanSort() ? (
                      <button
                        type="button"
                        className="inline-flex cursor-pointer items-center gap-1"
                        onClick={header.column.getToggleSortingHandler()}
                      >
                        {text}
                        {sorted === 'asc' && <ArrowUp size={12} />}
                        {sorted === 'desc' && <ArrowDown size={12} />}
                      </button>
                    ) : (
                      text
                    )}
                  </th>
                )
              })}
            </tr>
          ))}
        </thead>
        <tbody>
          {table.getRowModel().rows.map((row) => (
            <tr key={row.id}>
              {row.getAllCells().map((cell, i) => (
                <td
                  key={cell.id}
                  className={`border-line border-t px-1.5 py-1.5 ${i === 0 ? 'text-left' : 'text-right'}`}
                >
                  <table.FlexRender cell={cell} />
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}
