import { Download, TriangleAlert } from 'lucide-react'
import { Tabs } from 'radix-ui'
import { useState, type ReactNode } from 'react'
import { useParams, useSearchParams } from 'react-router'

import type { Version } from '../api/client'
import { usePromotions } from '../api/ladder'
import { usePlacements, useTrace, useVersion, useVersions } from '../api/queries'
import { ActivityPanel } from '../activity/activity-list'
import { bytes, number, words } from '../ui/format'
import { Ago, Empty, Facts, Loaded, PageHead, Panel, Ref, Tag, To } from '../ui/parts'
import { CardView } from './card-view'
import { DiffPanel } from './diff-panel'
import { EvidenceView } from './evidence-view'
import { EmergencyTag } from './ladder-board'
import { said } from '../reviews/said'
import { ProfilesAgainst, ProfileView } from './profile-view'
import { PromoteSheet } from './promote-sheet'
import { SignatureTable } from './signature-table'
import { TraceDrawing } from './trace-page'
import { VersionUpkeep } from './upkeep'

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
            {v.ref}{' '}
            <span className="inline-flex flex-wrap gap-1">
              {v.labels?.map((l) => (
                <Tag key={l} tone="trial">
                  {l}
                </Tag>
              ))}
              {v.tags?.map((t) => (
                <Tag key={t} tone="quiet">
                  {t}
                </Tag>
              ))}
            </span>
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

const dataLink = (ref: string) => <To to={`/models/trace?from=${encodeURIComponent(ref)}`}>{ref}</To>

function Overview({ version: v }: { version: Version }) {
  const promotions = (usePromotions({ model: v.model }).data?.items ?? []).filter((p) => p.version === v.ref)
  const placements = (usePlacements().data?.items ?? []).filter((p) => p.version === v.ref)
  const importance = Object.entries(v.importance ?? {}).sort((a, b) => Math.abs(b[1]) - Math.abs(a[1]))
  return (
    <>
      <div className="grid grid-cols-[minmax(0,1fr)] gap-5 lg:grid-cols-2">
        <Panel title="Measured and made with">
          <Facts
            empty="Neither metrics nor parameters were recorded."
            rows={[...Object.entries(v.metrics).map(([k, x]) => [k, number(x)] as const), ...Object.entries(v.params)]}
          />
        </Panel>
        <Panel title="Made from">
          <Facts
            empty=""
            rows={[
              [
                'files',
                `${v.artifacts.length}, ${bytes(v.artifacts.reduce((n, a) => n + a.size, 0))}, ${[...new Set(v.artifacts.map((a) => a.contents.format))].join(', ')}`,
              ] as const,
              ...(v.run
                ? [
                    [
                      'run',
                      <To key="run" to={`/models/runs/${v.run}`}>
                        {v.run}
                      </To>,
                    ] as const,
                  ]
                : []),
              ...(v.data ?? []).map((d) => [d.role.replace('-', ' '), dataLink(d.data)] as const),
              ...(v.parents ?? []).map((p) => [`${p.relation} from`, <Ref key={p.version} to={p.version} />] as const),
              [
                'code',
                v.code
                  ? `${v.code.commit.slice(0, 12)}${v.code.branch ? ` on ${v.code.branch}` : ''}${v.code.dirty ? ', with uncommitted changes' : ''}`
                  : 'not recorded',
              ] as const,
              ...placements.map(
                (p) =>
                  [
                    `placed in ${p.environment}`,
                    p.addresses.map((a) => `${a.url} ${a.healthy ? 'healthy' : `✕ ${a.reason ?? ''}`}`).join(', '),
                  ] as const,
              ),
              ...Object.entries(v.properties ?? {}),
            ]}
          />
        </Panel>
        {importance.length > 0 && (
          <Panel title="How much each input counts">
            {importance.map(([name, x]) => (
              <div key={name} className="grid grid-cols-[150px_minmax(0,1fr)_60px] items-center gap-3 py-0.5">
                <span className="truncate">{name}</span>
                <span
                  className="bg-main h-2.5 opacity-80"
                  style={{ width: `${(Math.abs(x) / Math.abs(importance[0]?.[1] || 1)) * 100}%` }}
                />
                <span className="text-right">{number(x)}</span>
              </div>
            ))}
          </Panel>
        )}
        {v.dependencies && v.dependencies.length > 0 && (
          <Panel title="Packages it needs">
            <Facts
              empty=""
              rows={v.dependencies.map((d) => [d.name, `${d.want ?? 'any'} ${d.extra ?? ''}`] as const)}
            />
          </Panel>
        )}
      </div>
      <Panel title="Signature">
        {v.signature ? (
          <SignatureTable signature={v.signature} />
        ) : (
          <Empty>
            Neither a sample nor a model file that declares it was given at registration, so it is not known.
          </Empty>
        )}
        {v.sample_request !== undefined && (
          <details className="mt-3">
            <summary className="text-ink-2 cursor-pointer">A request that it can answer</summary>
            <pre className="bg-paper border-line mt-2 overflow-x-auto rounded-md border p-3 text-[13px]">
              {JSON.stringify(v.sample_request, null, 2)}
            </pre>
          </details>
        )}
      </Panel>
      <Panel title="Promotions">
        {promotions.length === 0 ? (
          <Empty command={`innerladder promote ${v.ref} -to live`}>Nobody has asked for it yet.</Empty>
        ) : (
          promotions.map((p) => (
            <div key={p.id} className="border-line flex flex-wrap gap-x-4 border-t py-1.5 first:border-0">
              <To to={`/reviews/${p.id}`}>{p.id}</To>{' '}
              {p.emergency && <EmergencyTag reviewed={p.state !== 'to_review'} />} {p.from} → {p.to}{' '}
              <Tag
                tone={
                  p.state === 'carried_out' ? 'main' : p.state === 'open' || p.state === 'to_review' ? 'trial' : 'bad'
                }
              >
                {words(p.state)}
              </Tag>
              <span className="text-ink-2">
                asked by {p.asked_by}, <Ago at={p.opened_at} />
                {p.sign_offs.map((s) => `; ${s.by} ${said(s)}${s.note ? ` “${s.note}”` : ''}`)}
              </span>
            </div>
          ))
        )}
      </Panel>
    </>
  )
}

function Files({ version: v }: { version: Version }) {
  return (
    <>
      {v.artifacts.map((a) => (
        <Panel key={a.name} title={a.name} aside={<Tag tone="quiet">{a.contents.format}</Tag>}>
          {a.contents.unsafe && (
            <p className="text-bad mb-2 flex items-center gap-2">
              <TriangleAlert size={15} aria-hidden /> <b>unsafe to load:</b> {a.contents.unsafe}
            </p>
          )}
          <Facts
            empty=""
            rows={[
              ['size', bytes(a.size)],
              [
                'sha256',
                <code key="d" className="text-[12.5px] break-all">
                  {a.digest}
                </code>,
              ],
              [
                'bytes',
                a.stored ? (
                  <a
                    key="g"
                    className="inline-flex items-center gap-1.5 underline underline-offset-3"
                    href={`/api/v1/versions/${v.ref}/artifacts/${encodeURIComponent(a.name)}`}
                    download
                  >
                    kept here <Download size={13} />
                  </a>
                ) : (
                  `only at ${a.address ?? ''}`
                ),
              ],
              ...(a.stored && a.address ? [['came from', a.address] as const] : []),
              ...(a.contents.facts ?? []).map((f) => [f.name, f.value] as const),
              ...(a.contents.tensor_count
                ? [
                    [
                      'tensors',
                      `${a.contents.tensor_count} with ${(a.contents.values ?? 0).toLocaleString('en')} values`,
                    ] as const,
                  ]
                : []),
              ...(a.contents.file_count
                ? [['files in it', `${a.contents.file_count}, ${bytes(a.contents.expanded ?? 0)} unpacked`] as const]
                : []),
            ]}
          />
          {a.contents.remarks?.map((r) => (
            <p key={r} className="text-ink-2 mt-1">
              {r}
            </p>
          ))}
          {(a.contents.tensors || a.contents.files) && (
            <details className="mt-2">
              <summary className="text-ink-2 cursor-pointer">
                {a.contents.tensors ? 'its tensors' : 'its files'}
              </summary>
              <ul className="mt-1 columns-1 gap-8 text-[13px] md:columns-2">
                {a.contents.tensors?.map((t) => (
                  <li key={t.name}>
                    {t.name}{' '}
                    <span className="text-ink-2">
                      {t.datatype} [{t.shape.join(' × ')}]
                    </span>
                  </li>
                ))}
                {a.contents.files?.map((f) => (
                  <li key={f.name}>
                    {f.name} <span className="text-ink-2">{bytes(f.size)}</span>
                  </li>
                ))}
              </ul>
            </details>
          )}
        </Panel>
      ))}
      <Panel title="Attachments">
        {!v.attachments || v.attachments.length === 0 ? (
          <Empty command={`innerladder attach ${v.ref} residuals.png`}>No documents, notebooks or pictures yet.</Empty>
        ) : (
          <div className="grid gap-4 md:grid-cols-2">
            {v.attachments.map((a) => {
              const href = `/api/v1/versions/${v.ref}/attachments/${encodeURIComponent(a.name)}`
              return (
                <figure key={a.name} className="min-w-0">
                  {a.media.startsWith('image/') && (
                    <img src={href} alt={a.name} className="border-line max-h-72 rounded-md border" />
                  )}
                  <figcaption className="mt-1">
                    <a className="underline underline-offset-3" href={href}>
                      {a.name}
                    </a>{' '}
                    <span className="text-ink-2">
                      {a.media}, {bytes(a.size)}, by {a.added_by}, <Ago at={a.added_at} />
                    </span>
                  </figcaption>
                </figure>
              )
            })}
          </div>
        )}
      </Panel>
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
