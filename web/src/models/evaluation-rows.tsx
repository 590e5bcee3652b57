import type { Evaluation } from '../api/client'
import { count, number } from '../ui/format'
import { Tag, To } from '../ui/parts'
import { TableHead } from '../ui/table-head'

/** Parts of the rows with their measures, the worst first. */
export function Segments({
  segments,
  worse = 'worse than all',
}: {
  segments: NonNullable<Evaluation['segments']>
  worse?: string
}) {
  const names = [...new Set(segments.flatMap((s) => Object.keys(s.metrics)))]
  const shown = segments.slice(0, 12)
  return (
    <div className="overflow-x-auto">
      <table className="text-[13px]">
        <TableHead columns={['part of the rows', 'rows', ...names, '']} />
        <tbody>
          {shown.map((s) => (
            <tr key={s.name} className="border-line border-t *:py-1 *:pr-4">
              <td>{s.name}</td>
              <td>{s.rows === undefined ? '–' : count(s.rows)}</td>
              {names.map((n) => (
                <td key={n} className="whitespace-nowrap">
                  {s.metrics[n] === undefined ? '–' : number(s.metrics[n])}
                  <Within bounds={s.bounds?.[n]} />
                </td>
              ))}
              <td>{s.worse && <Tag tone="bad">{worse}</Tag>}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {segments.length > shown.length && (
        <p className="text-ink-2 mt-1 text-[12.5px]">
          {segments.length - shown.length} more are in the file of the report.
        </p>
      )}
    </div>
  )
}

/** The interval of a measure. */
export function Within({ bounds }: { bounds?: readonly number[] }) {
  const [low, high] = bounds ?? []
  if (low === undefined || high === undefined) return null
  return (
    <span className="text-ink-2 text-[12px]">
      {' '}
      {number(low)} to {number(high)}
    </span>
  )
}

/** The rows that were worst, with what was asked, and what the other version predicted where there is one. */
export function WorstRows({
  rows,
  title = 'the worst rows',
  other,
}: {
  rows: NonNullable<Evaluation['worst']>
  title?: string
  other?: string
}) {
  const inputs = Object.keys(rows[0]?.inputs ?? {}).sort()
  return (
    <div className="overflow-x-auto md:col-span-2">
      <p className="text-ink-2 mb-1 text-[12.5px]">
        <b className="text-ink">{title}</b>, by their number in the table
      </p>
      <table className="text-[13px]">
        <TableHead columns={['row', 'truth', 'predicted', ...(other ? [other] : []), ...inputs]} />
        <tbody>
          {rows.slice(0, 10).map((r) => (
            <tr key={r.row} className="border-line border-t *:py-1 *:pr-4">
              <td>{r.row}</td>
              <td>{shown(r.truth)}</td>
              <td>{shown(r.predicted)}</td>
              {other && <td>{shown(r.other)}</td>}
              {inputs.map((i) => (
                <td key={i}>{shown(r.inputs?.[i])}</td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}

const shown = (v: unknown) =>
  typeof v === 'number' ? number(v) : v === null || v === undefined ? '–' : String(v as string)

/** How the service made a report, with the job whose rows are behind it. */
export function JudgedBy({ judged: j }: { judged: NonNullable<Evaluation['judged']> }) {
  return (
    <p className="text-ink-2 text-[12.5px] md:col-span-2">
      {j.output} of {j.version} beside {j.target} of {j.table} (sha256 {j.digest.slice(0, 12)}), all rows in{' '}
      <To to={`/models/jobs/${j.job}`}>{j.job}</To>, judged by {j.by}
      {j.left_out > 0 && `; ${count(j.left_out)} rows without truth were left out`}
    </p>
  )
}

const dash = (x?: number | null) => (x === undefined || x === null ? '–' : number(x))

/** The measures of each class. */
export function Classes({ classes }: { classes: NonNullable<Evaluation['classes']> }) {
  return (
    <div className="overflow-x-auto">
      <table className="text-[13px]">
        <TableHead columns={['class', 'rows', 'precision', 'recall', 'F1', 'ROC AUC', 'PR AUC']} />
        <tbody>
          {classes.map((c) => (
            <tr key={c.class} className="border-line border-t *:py-1 *:pr-4">
              <td>{c.class}</td>
              <td>{number(c.rows)}</td>
              <td>{dash(c.precision)}</td>
              <td>{dash(c.recall)}</td>
              <td>{dash(c.f1)}</td>
              <td>{dash(c.roc_auc)}</td>
              <td>{dash(c.pr_auc)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}

/** Below which residuals so many of the rows lie. */
export function Quantiles({ of }: { of: NonNullable<Evaluation['residual_quantiles']> }) {
  return (
    <div className="overflow-x-auto">
      <p className="text-ink-2 mb-1 text-[12.5px]">
        <b className="text-ink">prediction less truth</b>, below which so many of the rows lie
      </p>
      <table className="text-[13px]">
        <TableHead columns={of.map((q) => `${Math.round(q.share * 100)} %`)} />
        <tbody>
          <tr className="*:py-1 *:pr-4">
            {of.map((q) => (
              <td key={q.share}>{number(q.value)}</td>
            ))}
          </tr>
        </tbody>
      </table>
    </div>
  )
}

type Group = NonNullable<Evaluation['groups']>[number]

/** Quality and predictions by the groups of sensitive columns, each with its interval. */
export function Groups({ groups }: { groups: Group[] }) {
  const names = (of: (g: Group) => object) => [...new Set(groups.flatMap((g) => Object.keys(of(g))))].sort()
  const quality = names((g) => g.quality)
  const predictions = names((g) => g.predictions)
  return (
    <div className="overflow-x-auto md:col-span-2">
      <p className="text-ink-2 mb-1 text-[12.5px]">
        <b className="text-ink">by sensitive columns</b>: quality and predictions; all intervals together hold with 95 %
      </p>
      <table className="text-[13px]">
        <TableHead columns={['group', 'rows', ...quality, ...predictions.map((p) => `predicted: ${p}`)]} />
        <tbody>
          {groups.map((g) => (
            <tr key={`${g.column} ${g.level}`} className="border-line border-t *:py-1 *:pr-4">
              <td>
                {g.column}: {g.level}
              </td>
              <td>{count(g.rows)}</td>
              {[...quality.map((n) => g.quality[n]), ...predictions.map((n) => g.predictions[n])].map((x, i) => (
                <td key={i} className="whitespace-nowrap">
                  {x ? number(x.value) : '–'}
                  <Within bounds={x && [x.low, x.high]} />
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}
