/** The head of a table that does not sort; a column without a name is for what can be done. */
export function TableHead({ columns }: { columns: string[] }) {
  return (
    <thead className="text-ink-3 text-left text-[12px]">
      <tr className="*:py-1 *:pr-4 *:font-normal">
        {columns.map((c) => (
          <th key={c} className="relative">
            {c || <span className="sr-only">what can be done</span>}
          </th>
        ))}
      </tr>
    </thead>
  )
}
