import { useMemo } from 'react'

import type { Model } from '../api/client'
import { useLadder, useModels } from '../api/queries'
import { DataTable, type Columns } from '../ui/data-table'
import { Empty, Loaded, PageHead, Panel, Ref, To } from '../ui/parts'

export function ModelsPage() {
  const models = useModels()
  const rungs = useLadder().data?.rungs
  const columns = useMemo<Columns<Model>>(
    () => [
      {
        accessorKey: 'name',
        header: 'model',
        cell: ({ row }) => (
          <>
            <To to={`/models/${row.original.name}`}>{row.original.name}</To>
            <div className="text-ink-2 text-[12.5px]">{row.original.description}</div>
          </>
        ),
      },
      { accessorKey: 'task', header: 'task' },
      { accessorKey: 'versions', header: 'versions' },
      ...[...(rungs ?? [])].reverse().map((r) => ({
        id: r.name,
        header: r.name,
        enableSorting: false,
        cell: ({ row }: { row: { original: Model } }) => {
          const standing = row.original.standing[r.name] ?? []
          return (
            <span className="inline-flex flex-wrap justify-end gap-x-2">
              {standing.slice(0, 4).map((n) => (
                <Ref key={n} to={`${row.original.name}@${n}`}>
                  @{n}
                </Ref>
              ))}
              {standing.length > 4 && <span className="text-ink-3">+{standing.length - 4}</span>}
              {standing.length === 0 && <span className="text-ink-3">–</span>}
            </span>
          )
        },
      })),
    ],
    [rungs],
  )
  return (
    <>
      <PageHead title="Models" sub="every model and where its versions stand" />
      <Panel>
        <Loaded query={models}>
          {(list) =>
            list.items.length === 0 ? (
              <Empty command="innerladder register heat-demand -file model.json -metric rmse=0.38 -sample rows.csv -target demand_mw">There are no models yet. Register the first version:</Empty>
            ) : (
              <DataTable label="Models" data={list.items} columns={columns} />
            )
          }
        </Loaded>
      </Panel>
    </>
  )
}
