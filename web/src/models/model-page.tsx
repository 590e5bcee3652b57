import { useMemo } from 'react'
import { Link, useParams } from 'react-router'

import type { Version } from '../api/client'
import { useMay } from '../api/people'
import { useLadder, usePromotions } from '../api/ladder'
import { useModel, useVersions } from '../api/queries'
import { number } from '../ui/format'
import { DataTable, type Columns } from '../ui/data-table'
import { Ago, Button, Loaded, PageHead, Panel, Ref, Tag, To, Verdict } from '../ui/parts'
import { ActivityPanel } from '../activity/activity-list'
import { CompareLinks } from './compare-links'
import { EmergencyTag, LadderBoard } from './ladder-board'
import { RolledBackTag } from './rolled-back'
import { leadingMetric } from './metric'
import { CasesPanel } from './cases-panel'
import { StandingPanel } from './standing-panel'
import { ModelUpkeep } from './model-upkeep'
import { MetricValue } from './metric-value'

export function ModelPage() {
  const { model: name = '' } = useParams()
  const model = useModel(name)
  const may = useMay('register', model.data?.project ?? '*')
  const ladder = useLadder(model.data?.project).data
  const versions = useVersions(name)
  const promotions = usePromotions({ model: name, state: 'waiting' }).data?.items ?? []
  return (
    <Loaded query={model}>
      {(m) => (
        <>
          <PageHead
            title={
              <>
                {m.name} {m.vetted && <Tag tone="main">vetted</Tag>}{' '}
                {m.tags?.map((t) => (
                  <Tag key={t} tone="quiet">
                    {t}
                  </Tag>
                ))}
              </>
            }
            sub={
              <>
                {m.task} · {m.description && `${m.description} · `}
                {m.versions === 1 ? '1 version' : `${m.versions} versions`} · owned by {m.owner} · project {m.project}
                {m.labels &&
                  Object.entries(m.labels).map(([label, n]) => (
                    <span key={label}>
                      {' '}
                      · {label} is <Ref to={`${m.name}@${n}`}>@{n}</Ref>
                    </span>
                  ))}
                {Object.entries(m.properties ?? {}).map(([k, v]) => ` · ${k} ${v}`)}
              </>
            }
          >
            <ModelUpkeep model={m} />
            <Link to={`/models/lineup?versions=${m.name}`}>
              <Button tabIndex={-1}>Line up</Button>
            </Link>
            {may && (
              <Link to={`/models/register?model=${m.name}`}>
                <Button tabIndex={-1}>Register a version</Button>
              </Link>
            )}
            <CompareLinks
              model={m.name}
              versions={Object.values(m.standing)
                .flat()
                .sort((a, b) => b - a)}
            />
          </PageHead>
          <div className="grid grid-cols-[minmax(0,1fr)] gap-5 xl:grid-cols-[minmax(0,1.15fr)_minmax(0,1fr)]">
            <Panel
              title="The ladder"
              aside={<To to={`/settings/ladders?project=${m.project}`}>gates between the rungs</To>}
            >
              {ladder && <LadderBoard model={m} ladder={ladder} promotions={promotions} />}
            </Panel>
            <Panel title="Versions">
              <Loaded query={versions}>
                {(list) => (
                  <VersionTable versions={list.items} live={m.standing[ladder?.rungs.at(-1)?.name ?? '']?.at(-1)} />
                )}
              </Loaded>
            </Panel>
          </div>
          <StandingPanel model={m} />
          <CasesPanel model={m} />
          <ActivityPanel subject={m.name} />
        </>
      )}
    </Loaded>
  )
}

/** The versions with the metric that tells them apart, against the one that has been live longest. */
function VersionTable({ versions, live }: { versions: Version[]; live: number | undefined }) {
  const columns = useMemo<Columns<Version>>(() => {
    const leading = leadingMetric(versions)
    const metric = leading?.name
    const base = versions.find((v) => v.number === live)
    const against = (v: Version) => {
      if (!metric || !base || v.number === base.number) return undefined
      const a = base.metrics[metric]
      const b = v.metrics[metric]
      return a === undefined || b === undefined ? undefined : b - a
    }
    const out: Columns<Version> = [
      {
        accessorKey: 'number',
        header: 'version',
        cell: ({ row }) => (
          <>
            <Ref to={row.original.ref}>@{row.original.number}</Ref>{' '}
            {row.original.labels?.map((l) => (
              <Tag key={l} tone="trial">
                {l}
              </Tag>
            ))}{' '}
            <span className="text-ink-2">{row.original.rung}</span>{' '}
            {row.original.emergency && row.original.emergency !== 'reviewed' && <EmergencyTag />}
            {row.original.rolled_back && <RolledBackTag />}
            {row.original.note && <div className="text-ink-2 text-[12.5px]">{row.original.note}</div>}
          </>
        ),
      },
    ]
    if (metric) {
      out.push(
        {
          id: 'metric',
          header: metric,
          accessorFn: (v) => v.metrics[metric],
          cell: ({ row: { original: v } }) => {
            const value = v.metrics[metric]
            if (value === undefined) return '–'
            return <MetricValue of={v.ref} value={value} measured={v.measured?.[metric]} />
          },
        },
        {
          id: 'against',
          header: base ? `against @${base.number}` : 'against live',
          accessorFn: against,
          cell: ({ row }) => {
            const d = against(row.original)
            if (d === undefined) return <span className="text-ink-3">–</span>
            if (d === 0) return <Verdict verdict="same" />
            const by = `${d > 0 ? '+' : '−'}${number(Math.abs(d))}`
            return leading.less === undefined || row.original.rolled_back ? (
              <span>{by}</span>
            ) : (
              <Verdict verdict={d < 0 === leading.less ? 'better' : 'worse'} detail={by} />
            )
          },
        },
      )
    }
    out.push({
      id: 'data',
      header: 'trained on',
      enableSorting: false,
      cell: ({ row }) => (
        <span className="whitespace-nowrap">
          {row.original.data
            ?.filter((d) => d.role === 'trained-on')
            .map((d) => d.data)
            .join(', ') ?? '–'}
        </span>
      ),
    })
    out.push({
      accessorKey: 'created_at',
      header: 'registered',
      cell: ({ row }) => <Ago at={row.original.created_at} />,
    })
    return out
  }, [versions, live])
  return <DataTable label="Versions" data={versions} columns={columns} />
}
