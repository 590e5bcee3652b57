import type { Evaluation, Evidence } from '../api/client'
import { CopiesDrawing } from '../copies/copies-drawing'
import { number } from '../ui/format'
import { To } from '../ui/parts'
import { EvaluationDrawing } from './evaluation-drawing'
import { Within } from './evaluation-rows'
import { ImportanceDrawing } from './importance-drawing'
import { ReplayDrawing } from './replay-drawing'
import { RobustnessDrawing } from './robustness-drawing'

/** What a report says, drawn. */
export function EvidenceDrawing({ evidence: e }: { evidence: Evidence }) {
  return (
    <div className="mt-2 grid gap-4">
      {e.tests && <Tests tests={e.tests} />}
      {e.evaluation && <EvaluationDrawing evaluation={e.evaluation} />}
      {e.shadow && <CopiesDrawing report={e.shadow} />}
      {e.importance && <ImportanceDrawing report={e.importance} />}
      {e.robustness && <RobustnessDrawing report={e.robustness} />}
      {e.replay && <ReplayDrawing replay={e.replay} />}
      {e.load && <Numbers values={e.metrics ?? {}} limits={e.load.limits} />}
      {e.kind === 'picture' && (
        <img
          src={`/api/v1/evidence/${e.id}/file`}
          alt={e.name}
          className="border-line max-h-80 max-w-full rounded-md border"
        />
      )}
    </div>
  )
}

function Tests({ tests: t }: { tests: NonNullable<Evidence['tests']> }) {
  const bad = t.failures + t.errors
  const passed = t.total - t.skipped - bad
  const parts = [
    [passed, 'bg-main', 'passed'],
    [bad, 'bg-bad', 'failed'],
    [t.skipped, 'bg-line-strong', 'skipped'],
  ] as const
  return (
    <div>
      <div
        className="flex h-2.5 max-w-[520px] overflow-hidden rounded-sm"
        role="img"
        aria-label={parts.map(([n, , word]) => `${n} ${word}`).join(', ')}
      >
        {parts.map(([n, look, word]) => n > 0 && <span key={word} className={look} style={{ flexGrow: n }} />)}
      </div>
      <p className="text-ink-2 mt-1 text-[12.5px]">
        {parts
          .filter(([n]) => n > 0)
          .map(([n, , word]) => `${n} ${word}`)
          .join(', ')}
        {t.suites && t.suites.length > 1 && ` in ${t.suites.length} suites`}
      </p>
      {t.checked && (
        <p className="text-ink-2 text-[12.5px]">
          {t.checked.version} was asked in {t.checked.environment ?? 'a process of its own'}, by the cases{' '}
          {t.checked.cases} (sha256 {t.checked.digest.slice(0, 12)}), in{' '}
          <To to={`/models/jobs/${t.checked.job}`}>{t.checked.job}</To>, by {t.checked.by}
        </p>
      )}
      {t.failed && t.failed.length > 0 && (
        <ul className="mt-1.5 grid gap-1">
          {t.failed.slice(0, 10).map((f, i) => (
            <li key={i} className="text-[13px]">
              <span className="text-bad">✕ {f.name}</span> <span className="text-ink-2">{f.message}</span>
            </li>
          ))}
        </ul>
      )}
      {t.suites && t.suites.length > 1 && (
        <details className="text-ink-2 mt-1 text-[12.5px]">
          <summary className="cursor-pointer">by suite</summary>
          <table className="mt-1">
            <tbody>
              {t.suites.map((s) => (
                <tr key={s.name} className="*:pr-4">
                  <td>{s.name}</td>
                  <td>{s.total} tests</td>
                  <td>{s.failed} failed</td>
                  <td>{number(s.seconds)} s</td>
                </tr>
              ))}
            </tbody>
          </table>
        </details>
      )}
    </div>
  )
}

/** Measured values, with their intervals and the limits they had to keep. */
export function Numbers({
  values,
  limits = {},
  bounds = {},
}: {
  values: Record<string, number>
  limits?: Evaluation['limits']
  bounds?: Evaluation['bounds']
}) {
  return (
    <table className="max-w-[520px] self-start">
      <tbody className="*:border-line *:border-t *:*:py-1 *:*:pr-4 *:first:border-0">
        {Object.entries(values).map(([name, x]) => {
          const l = limits[name]
          return (
            <tr key={name}>
              <td className="text-ink-2">{name}</td>
              <td className="text-right font-medium">{number(x)}</td>
              {Object.keys(bounds).length > 0 && (
                <td>
                  <Within bounds={bounds[name]} />
                </td>
              )}
              <td className="text-ink-3 text-[12.5px]">
                {l?.at_most !== undefined && `at most ${number(l.at_most)} `}
                {l?.at_least !== undefined && `at least ${number(l.at_least)}`}
              </td>
            </tr>
          )
        })}
      </tbody>
    </table>
  )
}

/** What a chart shows, as numbers. */
export function Behind({ head, rows }: { head: string[]; rows: (string | number)[][] }) {
  return (
    <details className="text-ink-2 text-[12.5px]">
      <summary className="cursor-pointer">as a table</summary>
      <div className="max-h-60 overflow-auto">
        <table className="mt-1">
          <thead className="text-ink-3">
            <tr className="*:pr-4 *:text-left *:font-normal">
              {head.map((h) => (
                <th key={h}>{h}</th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.map((row, i) => (
              <tr key={i} className="*:pr-4">
                {row.map((x, j) => (
                  <td key={j}>{typeof x === 'number' ? number(x) : x}</td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </details>
  )
}
