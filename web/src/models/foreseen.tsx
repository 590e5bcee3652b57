import type { Foreseen } from '../api/client'
import { number } from '../ui/format'
import { Ref, StateMark, Tag, Verdict } from '../ui/parts'

/** What a registration would make, and what the project's gates would say of it. */
export function ForeseenView({ foreseen: f }: { foreseen: Foreseen }) {
  const v = f.version
  const open = f.gate.findings.filter((g) => g.state !== 'passed')
  const differing = Object.entries(v.measured ?? {}).filter(([, m]) => m.differs)
  return (
    <div className="grid gap-3">
      <p>
        {f.known ? (
          <>
            The same content is <Ref to={f.known} /> already: nothing new is made.
          </>
        ) : (
          <>
            It would be <b>{v.ref}</b> on {v.rung}, in {v.project}.
          </>
        )}
      </p>
      {f.gate.incumbent && (
        <p>
          Signature, against <Ref to={f.gate.incumbent} />: <Verdict verdict={f.compatibility} />
          {f.changes.filter((c) => c.breaking).length > 0 && (
            <span className="text-ink-2">
              {' '}
              {f.changes
                .filter((c) => c.breaking)
                .map((c) => `${c.name} ${c.kind}`)
                .join(', ')}
            </span>
          )}
        </p>
      )}
      {differing.map(([name, m]) => (
        <p key={name}>
          {name} is claimed as {number(m.claimed ?? 0)}; {m.evidence} measured {number(m.value)}{' '}
          <Tag tone="bad">differs</Tag>
        </p>
      ))}
      {f.remarks?.map((r) => (
        <p key={r} className="text-ink-2">
          {r}
        </p>
      ))}
      <div>
        <h3 className="text-ink-2 mb-1.5 text-[13px]">
          The gates to {f.gate.to} would say: {f.gate.findings.length - open.length} of {f.gate.findings.length} met
        </h3>
        <ul className="grid gap-1.5">
          {open.map((g, i) => (
            <li key={i} className="flex items-baseline gap-3">
              <StateMark state={g.state} />
              <span className="min-w-0 [overflow-wrap:anywhere]">
                {g.sentence} <span className="text-ink-3 text-[12.5px]">{g.rung}</span>
              </span>
            </li>
          ))}
        </ul>
      </div>
    </div>
  )
}
