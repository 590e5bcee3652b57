import { useState } from 'react'
import { useParams, useSearchParams } from 'react-router'
import type { Comparison } from '../api/client'
import { useComparison, useEndpoint, useSplits } from '../api/queries'
import { Choice, Switchboard } from '../ui/overlays'
import { Ago, Empty, Loaded, PageHead, Panel, To, Verdict } from '../ui/parts'
import { SignalTable } from './signal-table'
import { versionSides } from '../charts/sides'
import { DistributionPanel } from './distribution-panel'

const windows: Record<string, string | undefined> = {
  'Last trial': undefined,
  '5 min': '5m',
  '15 min': '15m',
  '1 h': '1h',
  '1 day': '24h',
  '1 week': '168h',
}

export function ComparePage() {
  const { endpoint: name = '' } = useParams()
  const [params, setParams] = useSearchParams()
  const [window, setWindow] = useState(params.get('until') ? '1 h' : 'Last trial')
  const endpoint = useEndpoint(name)
  const splits = useSplits(name)
  const until = params.get('until') ?? undefined
  const over = windows[window]
  const comparison = useComparison(
    name,
    params.get('incumbent') ?? undefined,
    params.get('candidate') ?? undefined,
    over,
    over && until,
  )
  const shown = comparison.data?.items
  const incumbent = params.get('incumbent') ?? shown?.[0]?.incumbent ?? ''
  const candidate = params.get('candidate') ?? shown?.map((c) => c.candidate).join(',') ?? ''
  const versions = [...new Set((splits.data?.items ?? []).flatMap((s) => s.lanes.map((l) => l.version)))].sort((a, b) =>
    a.localeCompare(b, 'en', { numeric: true }),
  )
  const choose = (key: string) => (value: string) =>
    setParams({ incumbent, candidate, ...(until && { until }), [key]: value }, { replace: true })
  const options = versions.map((v) => ({ value: v, text: v }))
  const candidates = candidate.includes(',')
    ? [{ value: candidate, text: candidate.replaceAll(',', ', ') }, ...options]
    : options
  return (
    <>
      <PageHead
        title="Side by side"
        sub={
          <>
            what versions did for <To to={`/endpoints/${name}`}>{endpoint.data?.name ?? name}</To> at the same times
            {until && (
              <>
                , until <Ago at={until} />;{' '}
                <To to={`?incumbent=${incumbent}&candidate=${candidate}`}>see it as of now</To>
              </>
            )}
          </>
        }
      >
        <Choice label="Incumbent" value={incumbent} options={options} onChange={choose('incumbent')} />
        <span className="self-center">and</span>
        <Choice label="Candidate" value={candidate} options={candidates} onChange={choose('candidate')} />
        <Switchboard label="Window" value={window} options={Object.keys(windows)} onChange={setWindow} />
      </PageHead>
      {incumbent !== '' && incumbent === candidate ? (
        <Panel>
          <Empty>Choose two versions that answered for {name}.</Empty>
        </Panel>
      ) : (
        <Loaded query={comparison}>
          {(all) => all.items.map((c) => <ComparisonView key={c.candidate} comparison={c} />)}
        </Loaded>
      )}
    </>
  )
}

function ComparisonView({ comparison: c }: { comparison: Comparison }) {
  return (
    <>
      <Panel>
        {c.mismatch && (
          <p role="alert" className="border-bad bg-bad-soft mb-3 rounded-md border px-3 py-2">
            ✕ {c.mismatch}
          </p>
        )}
        <p className="text-ink-3 mb-1 text-[12.5px]">
          {c.of}, <Ago at={c.from} /> until <Ago at={c.to} />
        </p>
        <p className="max-w-[92ch] text-[15px]">{c.sentence}</p>
        {c.notes
          .filter((n) => !c.sentence.includes(n))
          .map((n) => (
            <p key={n} className="text-trial mt-1">
              {n}
            </p>
          ))}
      </Panel>
      <Panel
        title={`${c.candidate} beside ${c.incumbent}, with ${Number((c.confidence * 100).toFixed(2))} % intervals`}
      >
        <SignalTable comparison={c} />
      </Panel>
      {c.predictions.map((d) => (
        <DistributionPanel key={d.column} title="Predictions of " distribution={d} sides={versionSides(c)} />
      ))}
      {c.predictions.length === 0 && (
        <Panel title="Predictions">
          <Empty>
            No predictions were read of both versions yet. The bodies of a sample of requests are read; bins come from
            the incumbent's first 1 000 predictions when it has no reference profile.
          </Empty>
        </Panel>
      )}
      {c.inputs.length > 0 && (
        <Panel title="Inputs of both lanes: they should be alike, since requests are drawn at random">
          <div className="grid gap-x-8 md:grid-cols-2">
            {c.inputs.map((d) => (
              <div key={d.column} className="border-line flex justify-between gap-4 border-t py-1.5">
                <span>{d.column}</span>
                <span className="text-right">
                  <Verdict verdict={d.movement.verdict} />{' '}
                  <span className="text-ink-2 ml-1.5 text-[12.5px]">
                    PSI {d.movement.psi.toFixed(3)}, noise below {d.movement.noise_99.toFixed(3)}
                  </span>
                </span>
              </div>
            ))}
          </div>
        </Panel>
      )}
    </>
  )
}
