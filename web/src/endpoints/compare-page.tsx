import { useState } from 'react'
import { useParams, useSearchParams } from 'react-router'

import type { Comparison, Distribution, Row } from '../api/client'
import { useComparison, useEndpoint, useSplits } from '../api/queries'
import { BackToBack } from '../charts/back-to-back'
import { drawnSteps } from '../charts/steps'
import { count, ms, number, percent, words } from '../ui/format'
import { Choice, Switchboard } from '../ui/overlays'
import { Empty, Loaded, PageHead, Panel, Ref, To, Verdict } from '../ui/parts'

const windows: Record<string, string> = {
  '5 min': '5m',
  '15 min': '15m',
  '1 h': '1h',
  '1 day': '24h',
  '1 week': '168h',
}

export function ComparePage() {
  const { endpoint: name = '' } = useParams()
  const [params, setParams] = useSearchParams()
  const [window, setWindow] = useState('15 min')
  const endpoint = useEndpoint(name)
  const splits = useSplits(name)
  const incumbent = params.get('incumbent') ?? ''
  const candidate = params.get('candidate') ?? ''
  const comparison = useComparison(name, incumbent, candidate, windows[window] ?? '15m')
  const versions = [...new Set((splits.data?.items ?? []).flatMap((s) => s.lanes.map((l) => l.version)))].sort((a, b) =>
    a.localeCompare(b, 'en', { numeric: true }),
  )
  const choose = (key: string) => (value: string) =>
    setParams({ incumbent, candidate, [key]: value }, { replace: true })
  const options = versions.map((v) => ({ value: v, text: v }))
  return (
    <>
      <PageHead
        title="Side by side"
        sub={
          <>
            what two versions did for <To to={`/endpoints/${name}`}>{endpoint.data?.name ?? name}</To> at the same time
          </>
        }
      >
        <Choice label="Incumbent" value={incumbent} options={options} onChange={choose('incumbent')} />
        <span className="self-center">and</span>
        <Choice label="Candidate" value={candidate} options={options} onChange={choose('candidate')} />
        <Switchboard label="Window" value={window} options={Object.keys(windows)} onChange={setWindow} />
      </PageHead>
      {incumbent === '' || candidate === '' || incumbent === candidate ? (
        <Panel>
          <Empty>Choose two versions that answered for {name}.</Empty>
        </Panel>
      ) : (
        <Loaded query={comparison}>{(c) => <ComparisonView comparison={c} />}</Loaded>
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
        <p className="max-w-[92ch] text-[15px]">{c.sentence}</p>
        {c.notes.map((n) => (
          <p key={n} className="text-trial mt-1">
            {n}
          </p>
        ))}
      </Panel>
      <Panel title="Signals, with 95 % intervals">
        <SignalTable comparison={c} />
      </Panel>
      {c.predictions.map((d) => (
        <DistributionPanel key={d.column} title="Predictions" distribution={d} comparison={c} />
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
                  <span className="text-ink-2 text-[12.5px]">
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

const end = (x: number | undefined, write: (x: number) => string) => (x === undefined ? '?' : write(x))

function Range({ low, high, write }: { low?: number; high?: number; write: (x: number) => string }) {
  if (low === undefined && high === undefined) return null
  return (
    <span className="text-ink-3 ml-2 text-[12.5px] whitespace-nowrap">
      {end(low, write)} to {end(high, write)}
    </span>
  )
}

function SignalTable({ comparison: c }: { comparison: Comparison }) {
  const side = (r: Row) => (r.unit === 'ms' ? ms : (x: number) => percent(x))
  const difference = (r: Row) =>
    r.relation === 'ratio'
      ? (x: number) => `× ${x.toFixed(2)}`
      : (x: number) => `${x > 0 ? '+' : ''}${(x * 100).toFixed(2)} points`
  const bare = (r: Row) => (r.relation === 'ratio' ? (x: number) => x.toFixed(2) : (x: number) => (x * 100).toFixed(2))
  return (
    <div className="overflow-x-auto">
      <table className="w-full border-collapse text-right">
        <thead className="text-ink-3 text-[12px]">
          <tr className="*:px-1.5 *:py-1 *:font-normal">
            <th className="text-left">signal</th>
            <th>
              <Ref to={c.incumbent} />
            </th>
            <th>
              <Ref to={c.candidate} />
            </th>
            <th>difference</th>
            <th>verdict</th>
          </tr>
        </thead>
        <tbody className="*:border-line *:border-t *:*:px-1.5 *:*:py-1.5">
          <tr>
            <td className="text-left">requests</td>
            <td>{count(c.incumbent_requests)}</td>
            <td>{count(c.candidate_requests)}</td>
            <td />
            <td />
          </tr>
          {c.rows.map((r) => (
            <tr key={r.signal} title={r.sentence}>
              <td className="text-left">{words(r.signal)}</td>
              <td>
                {side(r)(r.incumbent)}
                <Range low={r.incumbent_low} high={r.incumbent_high} write={side(r)} />
              </td>
              <td>
                {side(r)(r.candidate)}
                <Range low={r.candidate_low} high={r.candidate_high} write={side(r)} />
              </td>
              <td>
                {r.low === undefined && r.high === undefined ? '–' : difference(r)(r.difference)}
                <Range low={r.low} high={r.high} write={bare(r)} />
              </td>
              <td>
                <Verdict verdict={r.verdict} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}

function DistributionPanel({
  title,
  distribution: d,
  comparison: c,
}: {
  title: string
  distribution: Distribution
  comparison: Comparison
}) {
  const [asTable, setAsTable] = useState(false)
  const m = d.movement
  const unit = d.unit ? ` ${d.unit}` : ''
  const facts: [string, string][] = m.numeric
    ? [
        ['mean', `${number(d.incumbent_mean ?? 0)} → ${number(d.candidate_mean ?? 0)}${unit}`],
        ['mean shift', `${(m.mean_shift ?? 0) > 0 ? '+' : ''}${number(m.mean_shift ?? 0)}${unit}`],
        ['Wasserstein', `${number(m.wasserstein ?? 0)}${unit} (${number(m.wasserstein_sd ?? 0)} σ)`],
        ['largest gap (KS)', number(m.ks ?? 0)],
      ]
    : [['G-test', `${number(m.g ?? 0)}, p ${number(m.g_p ?? 1)}`]]
  facts.push(
    ['PSI', `${m.psi.toFixed(3)}; 99 % of noise is below ${m.noise_99.toFixed(3)}`],
    ['Jensen–Shannon', m.jensen_shannon.toFixed(3)],
    ['predictions read', `${count(m.reference_n)} and ${count(m.now_n)}`],
  )
  return (
    <Panel title={`${title} of ${d.column}, back to back`} aside={<Verdict verdict={m.verdict} />}>
      <div className="grid grid-cols-[minmax(0,1fr)] gap-6 md:grid-cols-[minmax(0,1fr)_250px]">
        <div>
          {asTable ? (
            <StepTable distribution={d} comparison={c} />
          ) : (
            <BackToBack distribution={d} incumbent={c.incumbent} candidate={c.candidate} />
          )}
          <button
            type="button"
            className="text-ink-2 cursor-pointer text-[12.5px] underline underline-offset-3"
            onClick={() => setAsTable(!asTable)}
          >
            {asTable ? 'show as a chart' : 'show as a table'}
          </button>
        </div>
        <div className="grid content-start gap-3">
          <p>{m.sentence}</p>
          <dl className="grid gap-2 text-[13px]">
            {facts.map(([name, value]) => (
              <div key={name}>
                <dt className="text-ink-3 text-[12px]">{name}</dt>
                <dd>{value}</dd>
              </div>
            ))}
          </dl>
          <p className="text-ink-3 text-[12px]">
            {d.bins_from && `Bins come from ${d.bins_from}. `}
            {m.numeric && 'Drawn in equal steps; the values of a bin are spread evenly, so a wide bin looks flat.'}
          </p>
        </div>
      </div>
    </Panel>
  )
}

function StepTable({ distribution, comparison }: { distribution: Distribution; comparison: Comparison }) {
  return (
    <table className="w-full text-right text-[13px]">
      <thead className="text-ink-3">
        <tr>
          <th className="text-left font-normal">
            {distribution.column} {distribution.unit}
          </th>
          <th className="font-normal">{comparison.incumbent}</th>
          <th className="font-normal">{comparison.candidate}</th>
        </tr>
      </thead>
      <tbody>
        {drawnSteps(distribution).map((s) => (
          <tr key={s.name} className="border-line border-t">
            <td className="text-left">{s.name}</td>
            <td>{percent(s.incumbent, 1)}</td>
            <td>{percent(s.candidate, 1)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}
