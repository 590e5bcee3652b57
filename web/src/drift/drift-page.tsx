import { useState } from 'react'
import { useParams, useSearchParams } from 'react-router'

import type { ColumnDrift, Drift } from '../api/client'
import { useDrift } from '../api/judged'
import { useSplits } from '../api/queries'
import { LineFigure } from '../charts/line-figure'
import { DistributionPanel } from '../endpoints/distribution-panel'
import { clock, number } from '../ui/format'
import { Choice } from '../ui/overlays'
import { Empty, Loaded, PageHead, Panel, To, Verdict } from '../ui/parts'
import { SpanSwitch } from '../ui/span-switch'
import { windows, type Span } from '../ui/spans'
import { TableHead } from '../ui/table-head'
import { Sparks } from './sparks'
import { againstWords } from './words'

const againsts = ['reference', 'before', 'week', 'main'] as const
type Against = (typeof againsts)[number]

/** How far what an endpoint is asked and answers has moved, column by column. */
export function DriftPage() {
  const { endpoint = '' } = useParams()
  const [search, setSearch] = useSearchParams()
  const [span, setSpan] = useState<Span>('1 h')
  const version = search.get('version') ?? 'all'
  const offered = againsts.filter((a) => a !== 'main' || version !== 'all')
  const against = offered.find((a) => a === search.get('against')) ?? 'reference'
  const drift = useDrift(endpoint, {
    window: windows[span],
    against,
    ...(version !== 'all' && { version }),
  })
  const say = (key: string, value: string) =>
    setSearch((now) => {
      now.set(key, value)
      return now
    })
  const splits = useSplits(endpoint).data?.items ?? []
  const versions = [...new Set(splits.flatMap((s) => s.lanes.map((l) => l.version)))]
  return (
    <>
      <PageHead
        title={`Has ${endpoint} drifted?`}
        sub={
          <>
            what <To to={`/endpoints/${endpoint}`}>{endpoint}</To> is asked and answers, the furthest moved first
          </>
        }
      >
        <SpanSwitch value={span} least="15 min" most="7 days" onChange={setSpan} />
        <Choice
          label="Requests of"
          value={version}
          onChange={(v) => say('version', v)}
          options={['all', ...versions].map((v) => ({ value: v, text: v === 'all' ? 'all callers' : v }))}
        />
        <Choice
          label="Held against"
          value={against}
          onChange={(a) => say('against', a)}
          options={offered.map((a) => ({ value: a, text: `against ${againstWords[a]}` }))}
        />
      </PageHead>
      <Loaded query={drift}>{(d) => <Columns key={`${against} ${version}`} of={d} against={against} />}</Loaded>
    </>
  )
}

/** An input and an output may have the same name. */
const idOf = (c: ColumnDrift) => `${c.side} ${c.column}`

function Columns({ of: d, against }: { of: Drift; against: Against }) {
  const [chosen, setChosen] = useState<string>()
  const column = d.items.find((c) => idOf(c) === chosen) ?? d.items[0]
  return (
    <>
      {d.note && <Panel className="border-l-trial-line border-l-[3px]">{d.note}</Panel>}
      <Panel
        title={`${clock(Date.parse(d.from), true)} to ${clock(Date.parse(d.to))} UTC, against ${againstWords[against]}`}
      >
        {d.items.length === 0 ? (
          <Empty>Nothing can be held against it: no column is known of both.</Empty>
        ) : (
          <table className="w-full text-[13px]" aria-label="Columns">
            <TableHead
              columns={[
                'column',
                'side',
                'verdict',
                'effect',
                'noise',
                `mean of ${againstWords[against]}`,
                'mean now',
                'over time',
              ]}
            />
            <tbody>
              {d.items.map((c) => (
                <Row key={idOf(c)} of={c} chosen={c === column} choose={() => setChosen(idOf(c))} />
              ))}
            </tbody>
          </table>
        )}
        {d.left.length > 0 && (
          <p className="text-ink-2 mt-2 text-[12.5px]">
            Left out, because one side lacks it or counts it otherwise: {d.left.join(', ')}
          </p>
        )}
        <p className="text-ink-2 mt-2 text-[12.5px]">
          Effect is the population stability index less what chance makes; 99 of 100 unchanged columns stay within the
          noise. From 0.1 it is worth a look, from 0.25 it has moved.
        </p>
      </Panel>
      {column && (
        <>
          <DistributionPanel title="" distribution={column} sides={[againstWords[against], 'now']} />
          <Panel title={`${column.column} over time`}>
            <LineFigure
              title="effect"
              xName="UTC"
              xText={(x) => clock(x, d.step_ms >= 3_600_000)}
              lines={[
                { name: 'effect', points: column.points.map((p) => ({ x: Date.parse(p.at), y: p.effect })) },
                { name: 'noise', points: column.points.map((p) => ({ x: Date.parse(p.at), y: p.noise })) },
              ]}
            />
          </Panel>
        </>
      )}
    </>
  )
}

function Row({ of: c, chosen, choose }: { of: ColumnDrift; chosen: boolean; choose: () => void }) {
  const m = c.movement
  return (
    <tr className={`border-line border-t *:py-1 *:pr-3 ${chosen ? 'bg-main-soft' : ''}`} data-column={c.column}>
      <td>
        <button type="button" className="text-ink cursor-pointer underline underline-offset-3" onClick={choose}>
          {c.column}
        </button>
      </td>
      <td className="text-ink-2">{c.side}</td>
      <td>
        <Verdict verdict={m.verdict} />
      </td>
      <td>{(m.psi - m.noise_expected).toFixed(3)}</td>
      <td>{Math.max(0, m.noise_99 - m.noise_expected).toFixed(3)}</td>
      <td>
        {c.incumbent_mean === undefined ? '–' : number(c.incumbent_mean)} {c.unit}
      </td>
      <td>
        {c.candidate_mean === undefined ? '–' : number(c.candidate_mean)} {c.unit}
      </td>
      <td>
        <Sparks points={c.points} />
      </td>
    </tr>
  )
}
