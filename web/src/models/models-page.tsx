import { useMemo, useState } from 'react'
import { Link } from 'react-router'

import type { Model } from '../api/client'
import { useModels, useProjects, useVocabulary, type ModelFilter } from '../api/queries'
import { DataTable, type Columns } from '../ui/data-table'
import { Choice } from '../ui/overlays'
import { Button, Empty, inputLook, Loaded, PageHead, Panel, Ref, Tag, To } from '../ui/parts'
import { ModelPlaces } from './places'

const anyProject = 'all projects'

export function ModelsPage() {
  const [filter, setFilter] = useState<ModelFilter>({})
  const models = useModels(filter)
  const projects = useProjects().data?.items ?? []
  const rungs = useVocabulary().data?.rungs
  const narrowed = Object.values(filter).some(Boolean)
  const columns = useMemo<Columns<Model>>(
    () => [
      {
        accessorKey: 'name',
        header: 'model',
        cell: ({ row: { original: m } }) => (
          <>
            <To to={`/models/${m.name}`}>{m.name}</To> {m.vetted && <Tag tone="main">vetted</Tag>}{' '}
            {m.tags?.map((t) => (
              <Tag key={t} tone="quiet">
                {t}
              </Tag>
            ))}
            <div className="text-ink-2 text-[12.5px]">{m.description}</div>
          </>
        ),
      },
      { accessorKey: 'project', header: 'project' },
      { accessorKey: 'task', header: 'task' },
      { accessorKey: 'owner', header: 'owner' },
      { accessorKey: 'versions', header: 'versions' },
      ...[...(rungs ?? [])]
        .reverse()
        .filter((r) => r !== 'retired')
        .map((r) => ({
          id: r,
          header: r,
          enableSorting: false,
          cell: ({ row }: { row: { original: Model } }) => <Standing model={row.original} rung={r} />,
        })),
    ],
    [rungs],
  )
  return (
    <>
      <PageHead title="Models" sub="every model and where its versions stand">
        <Link to="/models/register">
          <Button look="go" tabIndex={-1}>
            Register a version
          </Button>
        </Link>
      </PageHead>
      <ModelPlaces />
      <Panel>
        <div className="mb-3 flex flex-wrap items-center gap-3">
          <input
            className={`${inputLook} w-64!`}
            aria-label="Name or description"
            placeholder="name or description"
            value={filter.text ?? ''}
            onChange={(event) => setFilter({ ...filter, text: event.target.value || undefined })}
          />
          {projects.length > 1 && (
            <Choice
              label="Project"
              value={filter.project ?? anyProject}
              options={[anyProject, ...projects.map((p) => p.name)].map((p) => ({ value: p, text: p }))}
              onChange={(p) => setFilter({ ...filter, project: p === anyProject ? undefined : p })}
            />
          )}
          <label className="inline-flex items-center gap-1.5">
            <input
              type="checkbox"
              checked={filter.vetted ?? false}
              onChange={(event) => setFilter({ ...filter, vetted: event.target.checked || undefined })}
            />{' '}
            only vetted, to start from
          </label>
        </div>
        <Loaded query={models}>
          {(list) =>
            list.items.length === 0 ? (
              narrowed ? (
                <Empty>No model is like that.</Empty>
              ) : (
                <Empty command="innerladder register heat-demand -file model.onnx -metric rmse=0.38 -sample rows.csv -target demand_mw">
                  There are no models yet. Register the first version:
                </Empty>
              )
            ) : (
              <DataTable label="Models" data={list.items} columns={columns} />
            )
          }
        </Loaded>
      </Panel>
    </>
  )
}

function Standing({ model, rung }: { model: Model; rung: string }) {
  const standing = model.standing[rung] ?? []
  const all = model.counts[rung] ?? 0
  return (
    <span className="inline-flex flex-wrap justify-end gap-x-2">
      {standing.slice(0, 4).map((n) => (
        <Ref key={n} to={`${model.name}@${n}`}>
          @{n}
        </Ref>
      ))}
      {all > 4 && <span className="text-ink-3">+{all - 4}</span>}
      {all === 0 && <span className="text-ink-3">–</span>}
    </span>
  )
}
