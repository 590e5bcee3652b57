import type { Review } from '../api/client'
import { DiffTable } from '../models/diff-panel'
import { EvidenceDrawing } from '../models/evidence-drawing'
import { EvidenceHead } from '../models/evidence-view'
import { short, words } from '../ui/format'
import { Empty, Facts, Panel, To } from '../ui/parts'
import { MetricValue } from '../models/metric-value'

/** A sentence in which the report that it speaks of leads to the report. */
export function Linked({ text, to }: { text: string; to?: string }) {
  if (!to?.startsWith('E-')) return text
  const link = (
    <a className="underline underline-offset-3" href={`#${to}`}>
      {to}
    </a>
  )
  const at = text.indexOf(to)
  if (at < 0)
    return (
      <>
        {text} {link}
      </>
    )
  return (
    <>
      {text.slice(0, at)}
      {link}
      {text.slice(at + to.length)}
    </>
  )
}

export function SideBySide({ review: r }: { review: Review }) {
  const v = r.candidate
  if (!r.diff) {
    return (
      <Panel title={`What ${short(v.ref)} is`}>
        <p className="text-ink-2 mb-2">
          {r.promotion.incumbent
            ? `${r.promotion.incumbent} is no longer there to compare with.`
            : `Nobody else stands on ${r.promotion.to}, so there is nothing to compare with.`}
        </p>
        <Facts
          empty="Nothing was recorded."
          rows={[
            ...Object.entries(v.metrics).map(
              ([k, x]) => [k, <MetricValue key={k} of={v.ref} value={x} measured={v.measured?.[k]} />] as const,
            ),
            ...(v.data ?? []).map((d) => [words(d.role.replace('-', ' ')), d.data] as const),
            ...(v.run
              ? [
                  [
                    'run',
                    <To key="r" to={`/models/runs/${v.run}`}>
                      {v.run}
                    </To>,
                  ] as const,
                ]
              : []),
            ...(v.code ? [['code', v.code.commit.slice(0, 12)] as const] : []),
          ]}
        />
      </Panel>
    )
  }
  return (
    <Panel title={`What is different: ${r.diff.from} and ${r.diff.to}`}>
      <DiffTable diff={r.diff} />
    </Panel>
  )
}

export function EvidencePanel({ review: r }: { review: Review }) {
  return (
    <Panel
      title="Evidence"
      aside={<To to={`/models/${r.candidate.model}/versions/${r.candidate.number}?show=evidence`}>all evidence</To>}
    >
      {r.evidence.length === 0 ? (
        <Empty command={`innerladder attach ${r.candidate.ref} -kind tests report.xml`}>No report is attached.</Empty>
      ) : (
        <div className="grid gap-5">
          {r.evidence.map((e) => {
            const before = r.incumbent_evidence.find((o) => o.kind === e.kind)
            return (
              <div key={e.id} id={e.id} className="border-line min-w-0 border-t pt-3 first:border-0 first:pt-0">
                <EvidenceHead evidence={e} />
                {before && (
                  <p className="text-ink-2 text-[13px]">
                    {short(before.version)} had: {before.says} ({before.id})
                  </p>
                )}
                <EvidenceDrawing evidence={e} />
              </div>
            )
          })}
        </div>
      )}
    </Panel>
  )
}
