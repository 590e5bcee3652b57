import type { Review } from '../api/client'
import { Ago, Empty, Panel, StateMark } from '../ui/parts'
import { said } from './said'
import { Linked } from './side-by-side'

/** What the gates say, one requirement a line, with a link to what shows it. */
export function GateList({ review: r }: { review: Review }) {
  const p = r.promotion
  const met = p.findings.filter((f) => f.state === 'passed').length
  return (
    <Panel
      title="The gate"
      aside={
        <span className="text-ink-2 text-[12.5px]">
          {p.findings.length === 0 ? '' : `${met} of ${p.findings.length} met${p.closed_at ? ' when it ended' : ''}`}
        </span>
      }
    >
      {p.findings.length === 0 ? (
        <Empty>It was not judged.</Empty>
      ) : (
        <ul className="grid gap-1.5">
          {[...p.findings]
            .sort((a, b) => urgency.indexOf(a.state) - urgency.indexOf(b.state))
            .map((f, i) => (
              <li key={i} className="flex items-baseline gap-3">
                <StateMark state={f.state} />
                <span className="min-w-0">
                  <Linked text={f.sentence} to={f.proof} /> <span className="text-ink-3 text-[12.5px]">{f.rung}</span>
                </span>
              </li>
            ))}
        </ul>
      )}
      {p.sign_offs.length > 0 && (
        <ul className="border-line mt-3 grid gap-1 border-t pt-2.5">
          {p.sign_offs.map((s) => (
            <li key={s.by} className={s.stale || s.void ? 'text-ink-2' : ''}>
              <b className="font-medium">{s.by}</b> {said(s)}{' '}
              <span className="text-ink-2">
                {s.note && `“${s.note}”`} <Ago at={s.at} />
              </span>
            </li>
          ))}
        </ul>
      )}
    </Panel>
  )
}

/** What keeps it back is read first. */
const urgency = ['failed', 'waiting', 'passed']
