import { Tabs } from 'radix-ui'
import { useState, type ReactNode } from 'react'
import { useParams, useSearchParams } from 'react-router'
import type { Version } from '../api/client'
import { usePromotions } from '../api/ladder'
import { useTrace, useVersion, useVersions } from '../api/queries'
import { ActivityPanel } from '../activity/activity-list'
import { Ago, Empty, Loaded, PageHead, Panel, To } from '../ui/parts'
import { CardView } from './card-view'
import { DiffPanel } from './diff-panel'
import { EvidenceView } from './evidence-view'
import { EmergencyTag } from './ladder-board'
import { LabelsAndTags } from './labels-and-tags'
import { RolledBackNote } from './rolled-back'
import { ProfilesAgainst, ProfileView } from './profile-view'
import { PromoteSheet } from './promote-sheet'
import { TraceDrawing } from './trace-page'
import { VersionUpkeep } from './upkeep'
import { Overview } from './version-overview'
import { Files } from './version-files'

export function VersionPage() {
  const { model = '', number: n = '' } = useParams()
  const version = useVersion(`${model}@${n}`)
  return <Loaded query={version}>{(v) => <VersionView key={v.ref} version={v} />}</Loaded>
}

const tabs = ['Overview', 'Evidence', 'Card', 'Files', 'Profile', 'Differences', 'Lineage', 'History'] as const

type TabName = (typeof tabs)[number]

function VersionView({ version: v }: { version: Version }) {
  const [params, setParams] = useSearchParams()
  const open = (usePromotions({ model: v.model }).data?.items ?? []).find(
    (p) => p.version === v.ref && (p.state === 'open' || p.state === 'to_review'),
  )
  const tab = tabs.find((t) => t.toLowerCase() === params.get('show')) ?? 'Overview'
  const views: Record<TabName, ReactNode> = {
    Overview: <Overview version={v} />,
    Evidence: <EvidenceView version={v} />,
    Card: (
      <Panel>
        {v.card ? (
          <CardView card={v.card} />
        ) : (
          <Empty command={`innerladder register ${v.model} … -card card.md`}>
            It was registered without a model card: what it is for, its data and limits, licence and contact.
          </Empty>
        )}
      </Panel>
    ),
    Files: <Files version={v} />,
    Profile: (
      <Panel title="Reference profile">
        <ProfileView version={v} />
      </Panel>
    ),
    Differences: <Differences version={v} />,
    Lineage: <Lineage version={v} />,
    History: <ActivityPanel subject={v.ref} title="What happened to it" />,
  }
  return (
    <>
      <PageHead
        title={
          <>
            {v.ref} <LabelsAndTags labels={v.labels} tags={v.tags} />
          </>
        }
        sub={
          <>
            on <b>{v.rung}</b> {v.emergency && <EmergencyTag reviewed={v.emergency === 'reviewed'} />} since{' '}
            <Ago at={v.rung_since} />
            {v.rung_by && (
              <>
                {' '}
                by <To to={`/reviews/${v.rung_by}`}>{v.rung_by}</To>
              </>
            )}{' '}
            · registered <Ago at={v.created_at} /> by {v.created_by}
            {v.note && ` · ${v.note}`}
          </>
        }
      >
        <VersionUpkeep version={v} />
        {open ? <To to={`/reviews/${open.id}`}>{open.id} waits for review</To> : <PromoteSheet version={v} />}
      </PageHead>
      {v.rolled_back && <RolledBackNote version={v.ref} back={v.rolled_back} />}
      <Tabs.Root
        value={tab}
        onValueChange={(t) => setParams(t === 'Overview' ? {} : { show: t.toLowerCase() }, { replace: true })}
        className="grid min-w-0 gap-5"
      >
        <Tabs.List aria-label="About the version" className="border-line flex flex-wrap gap-4 border-b">
          {tabs.map((t) => (
            <Tabs.Trigger
              key={t}
              value={t}
              className="data-[state=active]:border-main data-[state=active]:text-ink text-ink-2 hover:text-ink -mb-px cursor-pointer border-b-2 border-transparent px-0.5 pb-1.5 data-[state=active]:font-semibold"
            >
              {t}
            </Tabs.Trigger>
          ))}
        </Tabs.List>
        <Tabs.Content value={tab} className="grid min-w-0 grid-cols-[minmax(0,1fr)] gap-5">
          {views[tab]}
        </Tabs.Content>
      </Tabs.Root>
    </>
  )
}

function Differences({ version: v }: { version: Version }) {
  const others = (useVersions(v.model).data?.items ?? []).filter((o) => o.number !== v.number)
  const [chosen, setChosen] = useState<string>()
  const other =
    others.find((o) => o.ref === chosen) ?? others.find((o) => o.rung === 'live' && o.number < v.number) ?? others[0]
  if (others.length === 0) {
    return (
      <Panel>
        <Empty>It is the only version of {v.model}.</Empty>
      </Panel>
    )
  }
  return (
    <>
      <DiffPanel version={v} onOther={setChosen} />
      {other && (
        <Panel title={`The rows behind ${other.ref} and ${v.ref}`}>
          <ProfilesAgainst from={other} to={v} />
        </Panel>
      )}
    </>
  )
}

function Lineage({ version: v }: { version: Version }) {
  const trace = useTrace(v.ref, 'both')
  return (
    <Panel
      title="What it was made from, and what was made from it"
      aside={<To to={`/models/trace?from=${v.ref}`}>on a page of its own</To>}
    >
      <Loaded query={trace}>
        {(t) =>
          t.links.length === 0 ? (
            <Empty command={`innerladder register ${v.model} … -data winters-2024 -parent base@3`}>
              Nothing was linked to it.
            </Empty>
          ) : (
            <TraceDrawing trace={t} tall={440} />
          )
        }
      </Loaded>
    </Panel>
  )
}
