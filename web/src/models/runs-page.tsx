import { useMemo } from 'react'
import { useParams } from 'react-router'

import { ActivityPanel } from '../activity/activity-list'
import type { Run } from '../api/client'
import { useCurves, useRun, useRuns } from '../api/queries'
import { CurveGrid } from '../charts/curves'
import { DataTable, type Columns } from '../ui/data-table'
import { number } from '../ui/format'
import { Ago, Empty, Facts, Loaded, PageHead, Panel, Ref, Tag, To } from '../ui/parts'
import { ModelPlaces } from './places'

const tone = { running: 'trial', finished: 'main', failed: 'bad' } as const

export function RunsPage() {
  const runs = useRuns()
  const columns = useMemo<Columns<Run>>(
    () => [
      {
        accessorKey: 'number',
        header: 'run',
        cell: ({ row: { original: r } }) => (
          <>
            <To to={`/models/runs/${r.ref}`}>{r.ref}</To> <Tag tone={tone[r.state]}>{r.state}</Tag>
            <div className="text-ink-2 text-[12.5px]">{r.title}</div>
          </>
        ),
      },
      {
        accessorKey: 'model',
        header: 'model',
        cell: ({ row }) => <To to={`/models/${row.original.model}`}>{row.original.model}</To>,
      },
      {
        id: 'who',
        header: 'who and where',
        enableSorting: false,
        cell: ({ row }) => `${row.original.by}${row.original.machine ? ` on ${row.original.machine}` : ''}`,
      },
      {
        id: 'metrics',
        header: 'last metrics',
        enableSorting: false,
        cell: ({ row }) =>
          Object.entries(row.original.metrics)
            .slice(0, 3)
            .map(([k, x]) => `${k} ${number(x)}`)
            .join(' · ') || '–',
      },
      {
        id: 'versions',
        header: 'versions',
        enableSorting: false,
        cell: ({ row }) => row.original.versions?.map((v) => <Ref key={v} to={v} />) ?? '–',
      },
      { accessorKey: 'started', header: 'started', cell: ({ row }) => <Ago at={row.original.started} /> },
    ],
    [],
  )
  return (
    <>
      <PageHead title="Runs" sub="who trained what, where, on which data, and how the measures went" />
      <ModelPlaces />
      <Panel>
        <Loaded query={runs}>
          {(list) =>
            list.items.length === 0 ? (
              <Empty command="innerladder run start heat-demand -param depth=6">
                No training was logged yet. Open a run:
              </Empty>
            ) : (
              <DataTable label="Runs" data={list.items} columns={columns} />
            )
          }
        </Loaded>
      </Panel>
    </>
  )
}

export function RunPage() {
  const { run: ref = '' } = useParams()
  return <Loaded query={useRun(ref)}>{(run) => <RunView run={run} />}</Loaded>
}

function RunView({ run }: { run: Run }) {
  const curves = useCurves(run.ref, run.state === 'running')
  return (
    <>
      <PageHead
        title={
          <>
            {run.ref} <Tag tone={tone[run.state]}>{run.state}</Tag>
          </>
        }
        sub={
          <>
            {run.title && `${run.title} · `}trains <To to={`/models/${run.model}`}>{run.model}</To> · by {run.by}
            {run.machine && ` on ${run.machine}`} · started <Ago at={run.started} />
            {run.ended &&
              `, took ${((new Date(run.ended).getTime() - new Date(run.started).getTime()) / 1000).toFixed(1)} s`}
            {run.note && ` · “${run.note}”`}
          </>
        }
      >
        <To to={`/models/trace?from=${run.ref}`}>Lineage</To>
      </PageHead>
      <Panel title="Curves">
        <Loaded query={curves}>
          {(list) =>
            !list?.length ? (
              <Empty command={`innerladder run log ${run.ref} -step 1 -metric loss=0.5`}>
                No points were logged yet.
              </Empty>
            ) : (
              <CurveGrid curves={list} />
            )
          }
        </Loaded>
      </Panel>
      <div className="grid grid-cols-[minmax(0,1fr)] gap-5 lg:grid-cols-2">
        <Panel title="Parameters">
          <Facts empty="None were logged." rows={Object.entries(run.params)} />
        </Panel>
        <Panel title="From and into">
          <Facts
            empty="Nothing is linked."
            rows={[
              ...(run.data ?? []).map(
                (d) =>
                  [
                    d.role.replace('-', ' '),
                    <To key={d.data} to={`/models/trace?from=${encodeURIComponent(d.data)}`}>
                      {d.data}
                    </To>,
                  ] as const,
              ),
              ...(run.code
                ? [
                    [
                      'code',
                      `${run.code.commit.slice(0, 12)}${run.code.dirty ? ', with uncommitted changes' : ''}`,
                    ] as const,
                  ]
                : []),
              ...(run.versions ?? []).map((v) => ['registered as', <Ref key={v} to={v} />] as const),
            ]}
          />
        </Panel>
      </div>
      <ActivityPanel subject={run.ref} />
    </>
  )
}
