import { Siren } from 'lucide-react'

import { useNow } from '../api/queries'
import type { Ladder, Model, Promotion } from '../api/client'
import { share } from '../ui/format'
import { Ref, To } from '../ui/parts'

/** The ticks of a promotion: filled for passed, crossed for failed, hollow for waiting. */
export function GateTicks({ promotion }: { promotion: Promotion }) {
  return (
    <span
      className="mx-1.5 inline-flex gap-[3px] align-[1px]"
      role="img"
      aria-label={promotion.findings.map((f) => `${f.requirement} ${f.state}`).join(', ')}
    >
      {promotion.findings.map((f, i) => (
        <i
          key={i}
          className={`h-[5px] w-3.5 rounded-xs ${f.state === 'passed' ? 'bg-main' : f.state === 'failed' ? 'bg-bad' : 'border-trial-line border'}`}
        />
      ))}
    </span>
  )
}

const waitsFor = (p: Promotion) => {
  const open = p.findings.find((f) => f.state === 'failed') ?? p.findings.find((f) => f.state === 'waiting')
  if (p.state === 'to_review') return 'It went past its gate; someone else must say whether that was right.'
  return open ? open.sentence : p.ready ? 'The gate is met; someone has to carry it out.' : 'about to be carried out'
}

/** The loud mark of what went past a gate. */
export function EmergencyTag({ reviewed = false }: { reviewed?: boolean }) {
  return (
    <span
      className={`inline-flex items-center gap-1 rounded-full border px-2 text-[12px] font-semibold whitespace-nowrap ${reviewed ? 'text-ink-2 border-current' : 'border-bad bg-bad-soft text-bad'}`}
    >
      <Siren size={12} aria-hidden /> {reviewed ? 'emergency, reviewed' : 'emergency'}
    </span>
  )
}

const lanePart = { main: 'answers', trial: 'on trial for', shadow: 'gets copies of' }

/** A model as a ladder: the highest rung on top, versions as tokens that stand on the rungs, open promotions between them. */
export function LadderBoard({ model, ladder, promotions }: { model: Model; ladder: Ladder; promotions: Promotion[] }) {
  const now = useNow().data ?? []
  const answers = (ref: string) =>
    now.flatMap((n) =>
      n.lanes.filter((l) => l.version === ref).map((l) => `${lanePart[l.kind]} ${share(l.share)} of ${n.endpoint}`),
    )
  const rungs = [...ladder.rungs].reverse()
  const retired = model.standing['retired'] ?? []
  return (
    <div>
      {rungs.map((rung, i) => {
        const top = i === 0
        const asking = promotions.filter(
          (p) => (p.state === 'open' ? p.from : p.state === 'to_review' ? p.to : '') === rung.name,
        )
        return (
          <div
            key={rung.name}
            className="grid min-h-[92px] grid-cols-[84px_1fr] sm:grid-cols-[120px_1fr]"
            data-rung={rung.name}
          >
            <div className="self-end pr-4 pb-3 text-right font-semibold sm:pr-6">
              {rung.name}
              <small className="text-ink-3 block text-[12px] font-normal">
                {rung.gate.length === 0
                  ? 'no gate'
                  : rung.gate.length === 1
                    ? 'gate: 1 check'
                    : `gate: ${rung.gate.length} checks`}
                {rung.holds_one && ', holds one'}
              </small>
            </div>
            <div className="border-line-strong relative flex flex-col justify-end border-x-[3px] px-3 pb-[22px]">
              {asking.map((p) => (
                <div
                  key={p.id}
                  className="border-trial-line bg-trial-soft z-2 mx-3 mb-2 self-start rounded-lg border-[1.5px] px-2.5 py-1 font-semibold"
                  data-promotion={p.id}
                >
                  {p.emergency && <EmergencyTag />}{' '}
                  <To to={`/reviews/${p.id}`}>
                    @{p.version.split('@')[1]} → {p.to} · {p.id}
                  </To>
                  <GateTicks promotion={p} />
                  <small className="text-ink-2 block font-normal">{waitsFor(p)}</small>
                </div>
              ))}
              <div className="flex flex-wrap items-end gap-2 px-3">
                {(model.standing[rung.name] ?? []).map((n) => {
                  const doing = answers(`${model.name}@${n}`)
                  return (
                    <div
                      key={n}
                      data-token={n}
                      className={`rounded-t-lg rounded-b-xs border-[1.5px] px-2.5 py-1 font-semibold ${doing.length > 0 ? 'border-main bg-main-soft' : 'border-ink-3 bg-panel'}`}
                    >
                      <Ref to={`${model.name}@${n}`}>@{n}</Ref>
                      {doing.map((d) => (
                        <small key={d} className="text-ink-2 ml-1.5 font-normal">
                          {d}
                        </small>
                      ))}
                    </div>
                  )
                })}
                {(model.counts[rung.name] ?? 0) > (model.standing[rung.name]?.length ?? 0) && (
                  <To to={`/models/versions?model=${model.name}&rung=${rung.name}`}>
                    and {(model.counts[rung.name] ?? 0) - (model.standing[rung.name]?.length ?? 0)} more
                  </To>
                )}
              </div>
              <div
                className={`absolute inset-x-0 bottom-[16px] h-[5px] rounded-sm ${top ? 'bg-main' : 'bg-line-strong'}`}
              />
            </div>
          </div>
        )
      })}
      {retired.length > 0 && (
        <div className="text-ink-2 mt-1 pl-[84px] sm:pl-[120px]">retired: {retired.map((n) => `@${n}`).join(' ')}</div>
      )}
    </div>
  )
}
