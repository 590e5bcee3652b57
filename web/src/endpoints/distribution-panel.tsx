import { useState } from 'react'
import type { Distribution } from '../api/client'
import { BackToBack } from '../charts/back-to-back'
import type { Sides } from '../charts/sides'
import { drawnSteps } from '../charts/steps'
import { count, number, percent } from '../ui/format'
import { Panel, Verdict } from '../ui/parts'

export function DistributionPanel({
  title,
  distribution: d,
  sides,
}: {
  title: string
  distribution: Distribution
  /** What stands to the left and to the right. */
  sides: Sides
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
    ['PSI', `${m.psi.toFixed(3)}; chance alone exceeds ${m.noise_99.toFixed(3)} once in 100`],
    ['Jensen–Shannon', m.jensen_shannon.toFixed(3)],
    ['read', `${count(m.reference_n)} and ${count(m.now_n)}`],
    [
      'independent, as far as is known',
      `${count(Math.round(m.reference_effective))} and ${count(Math.round(m.now_effective))}`,
    ],
  )
  return (
    <Panel title={`${title}${d.column}, back to back`} aside={<Verdict verdict={m.verdict} />}>
      <div className="grid grid-cols-[minmax(0,1fr)] gap-6 md:grid-cols-[minmax(0,1fr)_250px]">
        <div>
          {asTable ? <StepTable distribution={d} sides={sides} /> : <BackToBack distribution={d} sides={sides} />}
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
            {m.numeric &&
              !d.whole &&
              'Drawn in equal steps; the values of a bin are spread evenly, so a wide bin looks flat.'}
          </p>
        </div>
      </div>
    </Panel>
  )
}

function StepTable({ distribution, sides }: { distribution: Distribution; sides: Sides }) {
  return (
    <table className="w-full text-right text-[13px]">
      <thead className="text-ink-3">
        <tr>
          <th className="text-left font-normal">
            {distribution.column} {distribution.unit}
          </th>
          <th className="font-normal">{sides[0]}</th>
          <th className="font-normal">{sides[1]}</th>
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
