import { Download } from 'lucide-react'
import { useParams } from 'react-router'

import type { Comparison } from '../api/client'
import { useHandleIncident, useIncident, type Report, type ShownIncident } from '../api/incidents'
import { useMay } from '../api/people'
import { ActivityPanel } from '../activity/activity-list'
import { EvidenceChart } from '../charts/evidence-chart'
import { versionSides } from '../charts/sides'
import { DistributionPanel } from '../endpoints/distribution-panel'
import { SignalTable } from '../endpoints/signal-table'
import { DiffTable } from '../models/diff-panel'
import { classes } from '../ui/classes'
import { short } from '../ui/format'
import { Ago, Button, Empty, Loaded, PageHead, Panel, Ref, Tag, To, Verdict } from '../ui/parts'
import { IncidentTalk } from './incident-talk'
import { Touched } from './touched'

export function IncidentPage() {
  const { incident: id = '' } = useParams()
  return <Loaded query={useIncident(id)}>{(i) => <IncidentView incident={i} />}</Loaded>
}

function IncidentView({ incident: i }: { incident: ShownIncident }) {
  const may = useMay('handle', i.project)
  const handle = useHandleIncident(i.id)
  const report = i.report
  return (
    <>
      <PageHead
        title={
          <span className="inline-flex flex-wrap items-center gap-2.5">
            {i.id}: {i.title}
            <Tag tone={i.state === 'open' ? 'bad' : 'quiet'}>{i.state}</Tag>
          </span>
        }
        sub={
          <>
            <To to={`/endpoints/${i.endpoint}`}>{i.endpoint}</To> · rolled back by {i.by}, <Ago at={i.at} />, from #
            {i.left} to #{i.for} · <Ref to={i.incumbent}>{short(i.incumbent)}</Ref> answers instead
            {i.rollout && (
              <>
                {' '}
                · <To to={`/rollouts/${i.rollout}`}>{i.rollout}</To>
              </>
            )}
            {i.alert && (
              <>
                {' '}
                · <To to="/alerts">{i.alert}</To>
              </>
            )}
          </>
        }
      >
        <Save incident={i} kind="md" text={i.markdown} />
        <Save incident={i} kind="json" text={JSON.stringify(i, null, 2)} />
        {may && (
          <Button
            look={i.state === 'open' ? 'go' : 'plain'}
            disabled={handle.isPending}
            onClick={() => handle.mutate({ state: i.state === 'open' ? 'closed' : 'open' })}
          >
            {i.state === 'open' ? 'Close it' : 'Open it again'}
          </Button>
        )}
      </PageHead>
      <Panel>
        {report ? (
          <p className="max-w-[92ch] text-[15px]">{report.sentence}</p>
        ) : (
          <Empty>The report is being written; the last answers are still counted.</Empty>
        )}
        <p className="text-ink-2 mt-1.5 max-w-[110ch] text-[13px]">“{i.why}”</p>
      </Panel>
      {report && <ReportView incident={i} report={report} />}
      <IncidentTalk incident={i} may={may} />
      <ActivityPanel subject={i.id} />
    </>
  )
}

/** Saves the page as a file. */
function Save({ incident: i, kind, text }: { incident: ShownIncident; kind: 'md' | 'json'; text: string }) {
  return (
    <Button
      onClick={() => {
        const link = document.createElement('a')
        link.href = URL.createObjectURL(
          new Blob([text], { type: kind === 'md' ? 'text/markdown' : 'application/json' }),
        )
        link.download = `${i.id}.${kind}`
        link.click()
        URL.revokeObjectURL(link.href)
      }}
    >
      <Download size={14} aria-hidden /> {kind === 'md' ? 'Markdown' : 'JSON'}
    </Button>
  )
}

function ReportView({ incident: i, report: r }: { incident: ShownIncident; report: Report }) {
  return (
    <>
      <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-2">
        <Panel title="What happened">
          <ol className="text-[13px]">
            {r.timeline.map((e, at) => (
              <li
                key={at}
                className="border-line grid grid-cols-[64px_minmax(0,1fr)] gap-x-3 border-t py-1.5 first:border-0"
              >
                <time className="text-ink-2" dateTime={e.at}>
                  {e.at.slice(11, 19)}
                </time>
                <span className={classes(e.bad && 'text-bad')}>
                  {e.bad && '✕ '}
                  {e.what}
                </span>
              </li>
            ))}
          </ol>
        </Panel>
        <Panel title="Could it have been known?">
          <table className="w-full text-[13px]">
            <tbody>
              {r.known.map((k) => (
                <tr key={k.source} className="border-line border-t align-top first:border-0">
                  <td className="py-1.5 pr-3 font-medium whitespace-nowrap">{k.source.replace('_', ' ')}</td>
                  <td className="py-1.5">
                    <span className={k.could === 'yes' ? 'text-bad' : 'text-ink-2'}>
                      {{ yes: '✕ it showed', no: 'it could not show', missing: 'missing' }[k.could]}:
                    </span>{' '}
                    {k.finding} {k.advice && <span className="text-ink-2">{k.advice}</span>}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </Panel>
      </div>
      <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-2">
        <Panel title="The evidence as it climbed">
          {r.curve.length === 0 ? <Empty>No guard watched it.</Empty> : <EvidenceChart guards={r.curve} all />}
        </Panel>
        <Panel title="Who approved it">
          {r.approved.length === 0 && <Empty>Nobody: it was never promoted.</Empty>}
          <ul className="text-[13px]">
            {r.approved.map((a) => (
              <li key={a.promotion} className="border-line border-t py-1.5 first:border-0">
                <To to={`/reviews/${a.promotion}`}>{a.promotion}</To> to {a.to}: asked by {a.asked_by}, signed by{' '}
                {a.signed.join(', ') || 'nobody'}, <Ago at={a.at} />
                {a.emergency && <Tag tone="bad">emergency</Tag>}
              </li>
            ))}
          </ul>
          <Touched report={r} />
        </Panel>
      </div>
      {r.comparison && <SideBySide incident={i} comparison={r.comparison} />}
      <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-2">
        <Panel title="How the rows behind both differ">
          {r.moved.length === 0 && <Empty>One of them has no reference profile.</Empty>}
          <ul className="text-[13px]">
            {r.moved.slice(0, 8).map((m) => (
              <li key={m.column} className="border-line border-t py-1.5 first:border-0">
                <b className="font-medium">{m.column}</b> <Verdict verdict={m.verdict} />
                <div className="text-ink-2">{m.sentence}</div>
              </li>
            ))}
          </ul>
        </Panel>
        <Panel title="What else differs">
          {r.diff ? <DiffTable diff={r.diff} /> : <Empty>Nothing is known.</Empty>}
        </Panel>
      </div>
    </>
  )
}

function SideBySide({ incident: i, comparison: c }: { incident: ShownIncident; comparison: Comparison }) {
  return (
    <>
      <Panel title={`${short(i.incumbent)} and ${short(i.candidate)} while both answered`}>
        <SignalTable comparison={c} />
      </Panel>
      {c.predictions.map((d) => (
        <DistributionPanel key={d.column} title="Predictions of " distribution={d} sides={versionSides(c)} />
      ))}
    </>
  )
}
