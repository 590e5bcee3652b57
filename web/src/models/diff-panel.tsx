import { useState } from 'react'

import type { Diff, Version } from '../api/client'
import { useDiff, useVersions } from '../api/queries'
import { number, short } from '../ui/format'
import { Choice } from '../ui/overlays'
import { Loaded, Panel, Verdict } from '../ui/parts'
import { MetricValue } from './metric-value'

/** How the version differs from another one of its model. */
export function DiffPanel({ version: v, onOther }: { version: Version; onOther?: (ref: string) => void }) {
  const others = (useVersions(v.model).data?.items ?? []).filter((o) => o.number !== v.number)
  const usual = others.find((o) => o.rung === 'live' && o.number < v.number) ?? others[0]
  const [chosen, setChosen] = useState<string>()
  const other = chosen ?? usual?.ref
  const diff = useDiff(other ?? '', other && v.ref)
  if (!other) return null
  return (
    <Panel
      title="How it differs"
      aside={
        <Choice
          label="From"
          value={other}
          options={others.map((o) => ({ value: o.ref, text: `from ${o.ref}` }))}
          onChange={(ref) => {
            setChosen(ref)
            onOther?.(ref)
          }}
        />
      }
    >
      <Loaded query={diff}>{(d) => <DiffTable diff={d} />}</Loaded>
    </Panel>
  )
}

/** A commit is known by its beginning. */
const brief = (text: string) => text.replace(/\b[0-9a-f]{40}\b/g, (commit) => commit.slice(0, 12))

/** All that differs between two versions. */
export function DiffTable({ diff: d }: { diff: Diff }) {
  return (
    <div className="overflow-x-auto">
      {/* On a phone the name of a row stands above its values. */}
      <table className="w-full max-sm:block">
        <thead className="text-ink-3 text-left text-[12px] max-sm:block">
          <tr className="max-sm:grid max-sm:grid-cols-3 *:py-1 *:font-normal">
            <th className="relative max-sm:hidden">
              <span className="sr-only">drawn</span>
            </th>
            <th>{d.from}</th>
            <th>{d.to}</th>
            <th className="relative">
              <span className="sr-only">verdict</span>
            </th>
          </tr>
        </thead>
        <tbody className="*:border-line *:border-t *:*:py-1.5 *:*:pr-4 *:*:[overflow-wrap:anywhere] sm:*:*:first:w-[26%] sm:*:*:first:min-w-36 max-sm:block max-sm:*:grid max-sm:*:grid-cols-3 max-sm:*:py-1 max-sm:*:*:py-0 max-sm:*:*:first:col-span-3">
          {d.metrics.map((m) => (
            <tr key={m.name}>
              <td className="text-ink-2">metric {m.name}</td>
              <td>
                {m.from === undefined ? '–' : <MetricValue of={d.from} value={m.from} measured={m.from_measured} />}
              </td>
              <td>{m.to === undefined ? '–' : <MetricValue of={d.to} value={m.to} measured={m.to_measured} />}</td>
              <td className="whitespace-nowrap">
                <Verdict
                  verdict={m.verdict}
                  detail={m.difference ? `${m.difference > 0 ? '+' : '−'}${number(Math.abs(m.difference))}` : undefined}
                />
              </td>
            </tr>
          ))}
          {[
            ...d.params.map((c) => ({ ...c, name: `parameter ${c.name}` })),
            ...d.signature,
            ...d.artifacts.map((c) => ({ ...c, name: `artifact ${c.name}` })),
            ...d.code,
            ...d.data,
            ...d.dependencies.map((c) => ({ ...c, name: `package ${c.name}` })),
          ].map((c) => (
            <tr key={c.name}>
              <td className="text-ink-2">{c.name}</td>
              <td>{brief(c.from) || '–'}</td>
              <td>{brief(c.to) || '–'}</td>
              <td className="text-ink-2">
                {c.kind} {c.detail}
              </td>
            </tr>
          ))}
          <tr>
            <td className="text-ink-2">signature</td>
            <td colSpan={3} className="max-sm:col-span-3">
              <Verdict verdict={d.compatibility} />
            </td>
          </tr>
        </tbody>
      </table>
      {d.importance.length > 0 && <ImportanceDiff rows={d.importance} from={d.from} to={d.to} />}
      {d.card && <CardDiff text={d.card} />}
    </div>
  )
}

/** How much each input counts in both versions. */
function ImportanceDiff({ rows, from, to }: { rows: Diff['importance']; from: string; to: string }) {
  const most = Math.max(1e-9, ...rows.flatMap((r) => [Math.abs(r.from ?? 0), Math.abs(r.to ?? 0)]))
  return (
    <div className="mt-4">
      <h2>
        How much each input counts: {short(from)} solid, {short(to)} hatched
      </h2>
      {rows.map((r) => (
        <div key={r.name} className="grid grid-cols-[140px_minmax(0,1fr)_120px] items-center gap-3 py-0.5">
          <span className="truncate">{r.name}</span>
          <span className="grid gap-0.5">
            <span className="bg-main h-2" style={{ width: `${(Math.abs(r.from ?? 0) / most) * 100}%` }} />
            <span
              className="hatched border-trial-line h-2 border"
              style={{ width: `${(Math.abs(r.to ?? 0) / most) * 100}%` }}
            />
          </span>
          <span className="text-ink-2 text-right text-[13px]">
            {r.from === undefined ? '–' : number(r.from)} → {r.to === undefined ? '–' : number(r.to)}
          </span>
        </div>
      ))}
    </div>
  )
}

/** The difference of two cards, line by line: a sign goes with the colour. */
function CardDiff({ text }: { text: string }) {
  return (
    <div className="mt-4">
      <h2>Model card</h2>
      <pre className="bg-paper border-line overflow-x-auto rounded-md border p-3 text-[13px] leading-snug">
        {text.split('\n').map((line, i) => (
          <div
            key={i}
            className={
              line.startsWith('+')
                ? 'text-main'
                : line.startsWith('-')
                  ? 'text-bad'
                  : line.startsWith('@@')
                    ? 'text-ink-3'
                    : ''
            }
          >
            {line || ' '}
          </div>
        ))}
      </pre>
    </div>
  )
}
