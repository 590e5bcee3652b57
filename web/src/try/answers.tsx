import type { TriedVersions } from '../api/running'
import { ms, number } from '../ui/format'
import { Problem, Ref } from '../ui/parts'
import { TableHead } from '../ui/table-head'
import { answerOf, type TryRow, type Value } from './request'

/** What versions answered to the same rows, side by side; the others are held against the first. */
export function Answers({ tried, rows }: { tried: TriedVersions; rows: TryRow[] }) {
  return (
    <div className="grid gap-4">
      <div className="grid gap-4 sm:grid-cols-2">
        {tried.items.map((t, i) => (
          <section key={t.version} className="border-line rounded-md border p-3" data-version={t.version}>
            <p className="mb-1.5 text-[13px]">
              <Ref to={t.version} /> <span className="text-ink-2">in {ms(t.took_ms)}</span>
            </p>
            {t.trouble || t.status !== 200 ? (
              <Problem error={new Error(t.trouble || `It answered ${t.status}: ${JSON.stringify(t.answer)}`)} />
            ) : (
              answerOf(t.answer, 0).map((o) => <Output key={o.name} name={o.name} values={o.values} />)
            )}
            {i > 0 && t.compared && (
              <p className="text-ink-2 mt-1.5 text-[12.5px]">
                {t.differences.length === 0
                  ? 'the same as the first'
                  : t.differences.slice(0, 4).join('; ') +
                    (t.differences.length > 4 ? `; and ${t.differences.length - 4} more` : '')}
              </p>
            )}
          </section>
        ))}
      </div>
      {rows.length > 1 && <RowTable tried={tried} rows={rows} />}
    </div>
  )
}

/** One output of a row: a value, a picture, or scores as bars. */
function Output({ name, values }: { name: string; values: Value[] }) {
  if (values.length === 1) {
    const v = values[0] ?? null
    return (
      <p>
        <span className="text-ink-2 text-[12.5px]">{name}</span>{' '}
        {isPicture(v) ? (
          <img alt={name} className="mt-1 max-h-48" src={`data:image;base64,${v}`} />
        ) : (
          <b className="text-[17px]">{shown(v)}</b>
        )}
      </p>
    )
  }
  const most = Math.max(...values.map((v) => Math.abs(Number(v))), 1e-12)
  return (
    <div className="mt-1.5 grid gap-0.5">
      <span className="text-ink-2 text-[12.5px]">{name}</span>
      {values.slice(0, 20).map((v, i) => (
        <div key={i} className="grid grid-cols-[28px_minmax(0,1fr)_64px] items-center gap-2 text-[12.5px]">
          <span className="text-ink-3">{i + 1}</span>
          <span className="bg-main h-2 opacity-80" style={{ width: `${(Math.abs(Number(v)) / most) * 100}%` }} />
          <span className="text-right">{shown(v)}</span>
        </div>
      ))}
      {values.length > 20 && <span className="text-ink-3 text-[12.5px]">and {values.length - 20} more</span>}
    </div>
  )
}

/** Base64 of a PNG, a JPEG or a GIF. */
const isPicture = (v: Value): v is string => typeof v === 'string' && /^(iVBORw0KGgo|\/9j\/|R0lGOD)/.test(v)

const shown = (v: Value) => (typeof v === 'number' ? number(v) : v === null ? 'missing' : String(v))

function RowTable({ tried, rows }: { tried: TriedVersions; rows: TryRow[] }) {
  const keys = Object.keys(rows[0] ?? {})
  const names = tried.items.map((t) => answerOf(t.answer, 0).map((o) => o.name))
  return (
    <div className="max-h-96 overflow-auto">
      <table className="w-full text-[12.5px]">
        <TableHead
          columns={[
            'row',
            ...keys,
            ...tried.items.flatMap((t, i) => (names[i] ?? []).map((n) => `${n} of ${t.version}`)),
          ]}
        />
        <tbody>
          {rows.map((row, r) => (
            <tr key={r} className="border-line border-t *:py-0.5 *:pr-3">
              <td className="text-ink-3">{r + 1}</td>
              {keys.map((k) => (
                <td key={k}>{shown(row[k] ?? null)}</td>
              ))}
              {tried.items.flatMap((t) =>
                answerOf(t.answer, r).map((o) => (
                  <td key={`${t.version} ${o.name}`} className="font-medium">
                    {o.values.map(shown).join(' ')}
                  </td>
                )),
              )}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}
