import type { Evidence } from '../api/client'
import { count, number } from '../ui/format'
import { Ref, To } from '../ui/parts'
import { TableHead } from '../ui/table-head'

type Report = NonNullable<Evidence['robustness']>
type Tried = Report['tried'][number]

/** The disturbances of single inputs, in the order in which they are shown. */
const ofInputs = [
  'lowest',
  'highest',
  'below',
  'above',
  'noise',
  'missing',
  'left_out',
  'unknown_level',
  'other_unit',
] as const

/** What a version does when it is disturbed: what counts against it, then all inputs by all disturbances. */
export function RobustnessDrawing({ report: r }: { report: Report }) {
  const faults = r.tried.filter((t) => t.fault)
  return (
    <div className="grid gap-4">
      {r.why && (
        <p className="text-[13.5px]">
          <span className="text-bad">
            ✕ {count((r.refused ?? 0) + (r.broke ?? 0))} of {count(r.rows)} usual rows got no prediction
          </span>
          : {r.why}
        </p>
      )}
      {faults.length > 0 && (
        <ul className="grid gap-1 text-[13.5px]">
          {faults.slice(0, 12).map((t, i) => (
            <li key={i}>
              <span className="text-bad">✕ {t.verdict}</span> <b>{t.input ?? t.what}</b>{' '}
              {t.input && t.verdict !== 'misreads' && (
                <span className="text-ink-2">{t.disturbance.replaceAll('_', ' ')}</span>
              )}{' '}
              {t.why}
            </li>
          ))}
        </ul>
      )}
      {r.tried.some((t) => t.input) && <Disturbances report={r} />}
      <Crowds tried={r.tried.filter((t) => !t.input)} />
      <p className="text-ink-2 text-[12.5px]">
        {count(r.rows)} rows like those of <Ref to={r.like} />
        {r.off !== undefined && <>, for which predictions lie {number(r.off, 2)} from the reference profile's</>}
        {r.judged && (
          <>
            , asked in {r.environment ?? 'a process of its own'}, in{' '}
            <To to={`/models/jobs/${r.judged.job}`}>{r.judged.job}</To>, by {r.judged.by}
          </>
        )}
        {r.kept && r.kept.length > 0 && `; kept as in the sample: ${r.kept.join(', ')}`}
      </p>
    </div>
  )
}

/** How far each input moves predictions in each disturbance, or what else came of it. */
function Disturbances({ report: r }: { report: Report }) {
  const inputs = [...new Set(r.tried.flatMap((t) => t.input ?? []))]
  return (
    <div className="overflow-x-auto">
      <p className="text-ink-2 mb-1 text-[12.5px]">
        <b className="text-ink">how far predictions move</b>, in{' '}
        {r.classes ? (
          'shares of the rows whose class is another'
        ) : (
          <>
            {number(r.spread ?? 0, 3)} {r.unit ?? `of ${r.output}`}, the spread of its predictions
          </>
        )}
        ; darker is further
      </p>
      <table className="text-[13px]">
        <TableHead columns={['input', ...ofInputs.map((t) => t.replaceAll('_', ' '))]} />
        <tbody>
          {inputs.map((input) => (
            <tr key={input} className="border-line border-t">
              <th scope="row" className="py-1 pr-4 text-left font-normal">
                {input}
              </th>
              {ofInputs.map((of) => (
                <Cell key={of} tried={r.tried.filter((t) => t.input === input && t.disturbance === of)} />
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}

const shades = ['', 'bg-main/10', 'bg-main/20', 'bg-main/35', 'bg-main/50'] as const

/** From which move on a cell has the next shade. */
const steps = [0.1, 0.3, 1, 3]

function Cell({ tried }: { tried: Tried[] }) {
  const said = tried
    .map((t) => `${t.what ?? ''}: ${t.answered} of ${t.rows} answered${t.why ? `, ${t.why}` : ''}`)
    .join('\n')
  const bad = tried.find((t) => !!t.broke || t.verdict === 'misreads')
  const moves = tried.flatMap((t) => t.moved ?? [])
  const least = Math.min(...moves)
  const most = Math.max(...moves)
  let text = '–'
  if (bad) text = `✕ ${bad.verdict}`
  else if (moves.length > 0) text = least === most ? far(most) : `${far(least)}–${far(most)}`
  else if (tried[0]) text = tried[0].verdict
  const shade = moves.length > 0 && !bad ? shades[steps.filter((s) => most >= s).length] : ''
  return (
    <td title={said} className={`px-2.5 py-1 text-right whitespace-nowrap ${bad ? 'text-bad' : shade}`}>
      {text}
    </td>
  )
}

function far(x: number) {
  return x >= 10 ? Math.round(x).toString() : number(x, 2)
}

/** What came of the same rows again, of many with one request and of many requests at once, and of noise on all. */
function Crowds({ tried }: { tried: Tried[] }) {
  if (tried.length === 0) return null
  return (
    <table className="w-fit text-[13px]">
      <TableHead columns={['of all rows', '', 'answered', 'predictions move', 'a row takes']} />
      <tbody>
        {tried.map((t, i) => (
          <tr key={i} className="border-line border-t *:py-1 *:pr-4">
            <td>{t.what}</td>
            <td className={t.broke || t.differed ? 'text-bad' : ''}>{t.verdict}</td>
            <td>
              {count(t.answered)} of {count(t.rows)}
            </td>
            <td>{t.moved === undefined ? '–' : far(t.moved)}</td>
            <td>{t.slower === undefined || t.moved !== undefined ? '–' : `${number(t.slower, 2)} × one by one`}</td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}
