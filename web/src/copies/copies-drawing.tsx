import type { components } from '../api/schema'
import { count, number, percent, short } from '../ui/format'

type Report = components['schemas']['ShadowReport']
type Output = components['schemas']['OutputDifference']

/** What copies have shown: how many answers were the same, how far apart numbers were, and what took longer. */
export function CopiesDrawing({ report: r, sent = 'copies' }: { report: Report; sent?: string }) {
  const than = r.against ? short(r.against) : 'the other'
  if (r.requests === 0) {
    return (
      <p className="text-ink-2">
        No answer could be compared
        {r.failed ? `: ${count(r.failed)} of ${count(r.copies ?? 0)} ${sent} failed` : ' yet'}.
      </p>
    )
  }
  const disagreed = r.disagreed / r.requests
  return (
    <div data-copies>
      <div
        className="flex h-3 max-w-[640px] gap-0.5 overflow-hidden rounded-sm"
        role="img"
        aria-label={`${r.requests - r.disagreed} the same, ${r.disagreed} different`}
      >
        <span className="bg-main" style={{ flexGrow: r.requests - r.disagreed }} />
        {r.disagreed > 0 && <span className="bg-trial-line" style={{ flexGrow: r.disagreed, minWidth: 3 }} />}
      </div>
      <p className="mt-1.5">
        <b className="font-semibold">{percent(1 - disagreed)}</b> of {count(r.requests)} answers say the same as {than};{' '}
        <b className="font-semibold">{count(r.disagreed)}</b> differ
        {r.tolerance ? <span className="text-ink-2"> by more than {percent(r.tolerance, 0)}, or in class</span> : ''}.
        {r.slower && (
          <>
            {' '}
            They took <b className="font-semibold">{number(r.slower.value)}</b> times as long{' '}
            <span className="text-ink-2">
              ({number(r.slower.low)} to {number(r.slower.high)})
            </span>
            .
          </>
        )}
      </p>
      {(r.failed ?? 0) + (r.dropped ?? 0) + (r.unread ?? 0) > 0 && (
        <p className="text-ink-2 text-[13px]">
          {[
            r.failed && `${count(r.failed)} of ${count(r.copies ?? 0)} ${sent} failed`,
            r.dropped && `${count(r.dropped)} were not sent, because there was no room`,
            r.unread && `${count(r.unread)} were answered and could not be compared`,
          ]
            .filter(Boolean)
            .join('; ')}
          .
        </p>
      )}
      {r.outputs && r.outputs.length > 0 && <Outputs outputs={r.outputs} />}
    </div>
  )
}

function Outputs({ outputs }: { outputs: Output[] }) {
  const numbers = outputs.some((o) => o.numbers)
  const classes = outputs.some((o) => o.kappa !== undefined)
  return (
    <div className="overflow-x-auto">
      <table className="mt-3 w-full max-w-[860px] text-[13px]">
        <thead className="text-ink-3 text-left text-[12px]">
          <tr>
            <th className="font-normal">output</th>
            <th className="text-right font-normal">rows</th>
            <th className="text-right font-normal">differ</th>
            {numbers && (
              <>
                <th className="text-right font-normal">apart, median</th>
                <th className="text-right font-normal">95 %</th>
                <th className="text-right font-normal">mean, signed</th>
              </>
            )}
            {classes && <th className="text-right font-normal">kappa</th>}
          </tr>
        </thead>
        <tbody>
          {outputs.map((o) => (
            <tr key={o.name} className="border-line border-t align-top *:py-1.5">
              <td className="pr-3 font-medium">
                {o.name}
                {!!o.lacking && <div className="text-bad font-normal">✕ not given in {count(o.lacking)} rows</div>}
                {o.classes?.slice(0, 3).map((c) => (
                  <div key={`${c.was} ${c.said}`} className="text-ink-2 font-normal">
                    {c.was} → {c.said}, {count(c.rows)} times
                  </div>
                ))}
              </td>
              <td className="text-right">{count(o.rows)}</td>
              <td className="text-right">{o.rows > 0 ? percent(o.differing / o.rows) : '–'}</td>
              {numbers && (
                <>
                  <td className="text-right">{o.numbers ? number(o.numbers.median) : '–'}</td>
                  <td className="text-right">{o.numbers ? number(o.numbers.p95) : '–'}</td>
                  <td className="text-right">
                    {o.numbers ? `${o.numbers.bias > 0 ? '+' : ''}${number(o.numbers.bias)}` : '–'}
                  </td>
                </>
              )}
              {classes && <td className="text-right">{o.kappa === undefined ? '–' : number(o.kappa)}</td>}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}
