import type { Version } from '../api/client'
import { usePromotions } from '../api/ladder'
import { usePlacements } from '../api/queries'
import { JobsAbout } from '../jobs/jobs-page'
import { RunningPanel } from '../running/running-panel'
import { bytes, number, words } from '../ui/format'
import { Ago, Empty, Facts, Panel, Ref, Tag, To } from '../ui/parts'
import { KnownAnswers } from './known-answers'
import { EmergencyTag } from './ladder-board'
import { MetricTable } from './metric-value'
import { said } from '../reviews/said'
import { SignatureTable } from './signature-table'

/** How many files, how large together, of which formats. */
function filesText(v: Version) {
  const formats = new Set(v.artifacts.map((a) => a.contents.format))
  return [v.artifacts.length, bytes(v.artifacts.reduce((n, a) => n + a.size, 0)), ...formats].join(', ')
}

const codeText = (code: NonNullable<Version['code']>) =>
  `${code.commit.slice(0, 12)}${code.branch ? ` on ${code.branch}` : ''}` +
  (code.dirty ? ', with uncommitted changes' : '')

const dataLink = (ref: string) => <To to={`/models/trace?from=${encodeURIComponent(ref)}`}>{ref}</To>

export function Overview({ version: v }: { version: Version }) {
  const promotions = (usePromotions({ model: v.model }).data?.items ?? []).filter((p) => p.version === v.ref)
  const placements = (usePlacements().data?.items ?? []).filter((p) => p.version === v.ref)
  const importance = Object.entries(v.importance ?? {}).sort((a, b) => Math.abs(b[1]) - Math.abs(a[1]))
  return (
    <>
      <div className="grid grid-cols-[minmax(0,1fr)] gap-5 lg:grid-cols-2">
        <Panel title="Measured and made with">
          {Object.keys(v.metrics).length > 0 && <MetricTable version={v} />}
          <Facts
            empty={Object.keys(v.metrics).length > 0 ? '' : 'Neither metrics nor parameters were recorded.'}
            rows={Object.entries(v.params)}
          />
        </Panel>
        <Panel title="Made from">
          <Facts
            empty=""
            rows={[
              ['files', filesText(v)] as const,
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
              ['code', v.code ? codeText(v.code) : 'not recorded'] as const,
              ...placements.map(
                (p) =>
                  [
                    `placed in ${p.environment}`,
                    p.elsewhere ? (
                      'elsewhere, where the gateway does not reach'
                    ) : (
                      <span key={p.id}>
                        {p.runner && 'runs here at '}
                        {p.addresses
                          .map((a) => `${a.url} ${a.healthy ? 'healthy' : `✕ ${a.reason ?? ''}`}`)
                          .join(', ')}{' '}
                        <To to={`/try/${p.environment}/${encodeURIComponent(v.ref)}`}>try it</To>
                      </span>
                    ),
                  ] as const,
              ),
              ...Object.entries(v.properties ?? {}),
            ]}
          />
        </Panel>
        <RunningPanel versions={[v.ref]} />
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
      <KnownAnswers version={v} />
      <JobsAbout version={v.ref} />
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
