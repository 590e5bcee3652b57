import { useMemo } from 'react'
import type { Found } from '../api/client'
import { DataTable, type Columns } from '../ui/data-table'
import { Ago, Ref, Tag, To } from '../ui/parts'
import { LabelsAndTags } from './labels-and-tags'
import { RolledBackTag } from './rolled-back'
import { MetricValue } from './metric-value'

export function FoundTable({
  items,
  metrics,
  chosen,
  onChoose,
}: {
  items: Found[]
  metrics: string[]
  chosen: string[]
  onChoose: (ref: string) => void
}) {
  const key = metrics.join()
  const columns = useMemo<Columns<Found>>(
    () => [
      {
        accessorKey: 'ref',
        header: 'version',
        enableSorting: false,
        cell: ({ row: { original: v } }) => (
          <span className="flex items-baseline gap-2">
            <input
              type="checkbox"
              aria-label={`Choose ${v.ref}`}
              checked={chosen.includes(v.ref)}
              onChange={() => onChoose(v.ref)}
            />
            <span>
              <Ref to={v.ref} /> <span className="text-ink-2">{v.rung}</span> {v.rolled_back && <RolledBackTag />}{' '}
              {v.vetted && <Tag tone="main">vetted</Tag>} <LabelsAndTags labels={v.labels} tags={v.tags} />
              {v.note && <div className="text-ink-2 text-[12.5px]">{v.note}</div>}
            </span>
          </span>
        ),
      },
      { accessorKey: 'task', header: 'task', enableSorting: false },
      ...(key === ''
        ? [
            {
              id: 'metrics',
              header: 'metrics',
              enableSorting: false,
              cell: ({ row }: { row: { original: Found } }) => (
                <span className="text-[12.5px]">
                  {Object.entries(row.original.metrics)
                    .slice(0, 3)
                    .map(([k, x], i) => (
                      <span key={k}>
                        {i > 0 && ' · '}
                        {k} <MetricValue of={row.original.ref} value={x} measured={row.original.measured?.[k]} />
                      </span>
                    ))}
                </span>
              ),
            },
          ]
        : key.split(',').map((m) => ({
            id: m,
            header: m,
            enableSorting: false,
            cell: ({ row: { original: f } }: { row: { original: Found } }) => {
              const value = f.metrics[m]
              return value === undefined ? '–' : <MetricValue of={f.ref} value={value} measured={f.measured?.[m]} />
            },
          }))),
      { id: 'format', header: 'format', enableSorting: false, cell: ({ row }) => row.original.formats.join(', ') },
      {
        id: 'answers',
        header: 'answers for',
        enableSorting: false,
        cell: ({ row }) =>
          (row.original.answering ?? []).map((e) => (
            <To key={e} to={`/endpoints/${e}`}>
              {e}
            </To>
          )),
      },
      { accessorKey: 'owner', header: 'owner', enableSorting: false },
      {
        accessorKey: 'created_at',
        header: 'registered',
        enableSorting: false,
        cell: ({ row }) => <Ago at={row.original.created_at} />,
      },
    ],
    [key, chosen, onChoose],
  )
  return <DataTable label="Versions found" data={items} columns={columns} />
}
