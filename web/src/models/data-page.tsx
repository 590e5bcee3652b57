import { useMemo } from 'react'
import { useSearchParams } from 'react-router'

import type { DataSet } from '../api/client'
import { useDataSets } from '../api/queries'
import { DataTable, type Columns } from '../ui/data-table'
import { bytes, count } from '../ui/format'
import { Ago, Button, Empty, Loaded, PageHead, Panel, To } from '../ui/parts'
import { ModelPlaces } from './places'

export function DataPage() {
  const [params, setParams] = useSearchParams()
  const name = params.get('name') ?? undefined
  const sets = useDataSets(name)
  const columns = useMemo<Columns<DataSet>>(
    () => [
      {
        accessorKey: 'ref',
        header: 'data set',
        cell: ({ row: { original: d } }) => (
          <>
            <To to={`/models/data?name=${d.name}`}>{d.ref}</To>
            <div className="text-ink-2 text-[12.5px]">{d.description || d.address}</div>
          </>
        ),
      },
      {
        id: 'rows',
        header: 'rows',
        accessorFn: (d) => d.rows ?? 0,
        cell: ({ row }) => (row.original.rows ? count(row.original.rows) : '–'),
      },
      {
        id: 'columns',
        header: 'columns',
        accessorFn: (d) => d.schema?.length ?? 0,
        cell: ({ row }) => (
          <span title={row.original.schema?.map((c) => `${c.name} (${c.type})`).join(', ')}>
            {row.original.schema?.length ?? '–'}
          </span>
        ),
      },
      {
        id: 'size',
        header: 'size',
        accessorFn: (d) => d.size ?? 0,
        cell: ({ row }) => (row.original.size ? bytes(row.original.size) : '–'),
      },
      {
        id: 'digest',
        header: 'sha256',
        enableSorting: false,
        cell: ({ row }) => <code className="text-[12.5px]">{row.original.digest?.slice(0, 12) ?? '–'}</code>,
      },
      {
        id: 'trace',
        header: 'used by',
        enableSorting: false,
        cell: ({ row }) => (
          <To to={`/models/trace?from=${encodeURIComponent(row.original.ref)}&direction=down`}>
            what was made from it
          </To>
        ),
      },
      {
        accessorKey: 'added_at',
        header: 'added',
        cell: ({ row }) => (
          <>
            <Ago at={row.original.added_at} /> by {row.original.added_by}
          </>
        ),
      },
    ],
    [],
  )
  return (
    <>
      <PageHead
        title={name ? `Data set ${name}` : 'Data sets'}
        sub={
          name
            ? 'all its revisions; each is immutable'
            : 'the newest revision of each; what versions and runs were made from'
        }
      >
        {name && <Button onClick={() => setParams({})}>All data sets</Button>}
      </PageHead>
      <ModelPlaces />
      <Panel>
        <Loaded query={sets}>
          {(list) =>
            list.items.length === 0 ? (
              <Empty command="innerladder data add winters-2024 winters.parquet">
                There is no data set yet. Add one:
              </Empty>
            ) : (
              <DataTable label="Data sets" data={list.items} columns={columns} />
            )
          }
        </Loaded>
      </Panel>
    </>
  )
}
