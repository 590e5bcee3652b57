import { useSearchParams } from 'react-router'

import { CurveGrid } from '../charts/curves'
import type { Lineup } from '../api/client'
import { useLineup } from '../api/queries'
import { bytes, itemsIn, number } from '../ui/format'
import { Ago, Empty, inputLook, Loaded, PageHead, Panel, Ref, Tag, To, Verdict } from '../ui/parts'
import { ModelPlaces } from './places'
import { RolledBackTag } from './rolled-back'
import { MetricValue } from './metric-value'

export function LineupPage() {
  const [params, setParams] = useSearchParams()
  const versions = itemsIn(params.get('versions') ?? '')
  const lineup = useLineup(versions)
  return (
    <>
      <PageHead title="Line-up" sub="any number of versions in one table; the best of each metric is marked">
        <form
          onSubmit={(event) => {
            event.preventDefault()
            setParams({ versions: String(new FormData(event.currentTarget).get('versions') ?? '') })
          }}
        >
          <input
            key={versions.join()}
            name="versions"
            className={`${inputLook} w-[min(24rem,80vw)]!`}
            aria-label="Versions"
            placeholder="heat-demand, return-temp@1"
            defaultValue={versions.join(', ')}
          />
        </form>
      </PageHead>
      <ModelPlaces />
      {versions.length === 0 ? (
        <Panel>
          <Empty command="innerladder lineup heat-demand@1 heat-demand@2">
            Name versions above, or a model for its newest; or choose some under Find versions.
          </Empty>
        </Panel>
      ) : (
        <Loaded query={lineup}>
          {(l) => (
            <>
              <Panel>
                <LineupTable lineup={l} />
              </Panel>
              {l.curves && l.curves.length > 0 && (
                <Panel title="How they were trained">
                  <CurveGrid curves={l.curves} />
                </Panel>
              )}
            </>
          )}
        </Loaded>
      )}
    </>
  )
}

function LineupTable({ lineup: l }: { lineup: Lineup }) {
  const row = (name: string, cell: (v: Lineup['versions'][number]) => React.ReactNode) => (
    <tr key={name}>
      <th scope="row" className="text-ink-2 text-left font-normal whitespace-nowrap">
        {name}
      </th>
      {l.versions.map((v) => (
        <td key={v.ref}>{cell(v)}</td>
      ))}
    </tr>
  )
  return (
    <div className="overflow-x-auto">
      <table className="w-full" aria-label="Line-up">
        <thead>
          <tr className="*:py-1.5 *:pr-5 *:text-left *:align-top">
            <th className="relative">
              <span className="sr-only">what</span>
            </th>
            {l.versions.map((v) => (
              <th key={v.ref} className="min-w-36">
                <Ref to={v.ref} />
                <div className="text-ink-2 font-normal">
                  {v.rung} {v.rolled_back && <RolledBackTag />}{' '}
                  {v.ref === l.base && <Tag tone="main">measured against</Tag>}{' '}
                  {v.labels?.map((x) => (
                    <Tag key={x} tone="trial">
                      {x}
                    </Tag>
                  ))}
                </div>
                <div className="text-ink-2 text-[12.5px] font-normal">{v.note}</div>
              </th>
            ))}
          </tr>
        </thead>
        <tbody className="*:border-line *:border-t *:*:py-1.5 *:*:pr-5 *:*:align-baseline">
          {l.metrics.map((m) =>
            row(`${m.name}${m.lower_is_better ? ', less is better' : ''}`, (v) => {
              const x = m.values[v.ref]
              if (x === undefined) return <span className="text-ink-3">–</span>
              const d = m.against?.[v.ref]
              return (
                <>
                  <span className={m.best?.includes(v.ref) ? 'font-semibold' : ''}>
                    <MetricValue of={v.ref} value={x} measured={m.measured?.[v.ref]} />
                  </span>{' '}
                  {m.best?.includes(v.ref) && <Tag tone="main">best</Tag>}
                  {d !== undefined && (
                    <div className="text-[12.5px]">
                      <Verdict
                        verdict={m.verdicts?.[v.ref] ?? ''}
                        detail={d === 0 ? undefined : `${d > 0 ? '+' : '−'}${number(Math.abs(d))}`}
                      />
                    </div>
                  )}
                </>
              )
            }),
          )}
          {l.params.map((p) =>
            row(`parameter ${p.name}`, (v) => p.values[v.ref] ?? <span className="text-ink-3">–</span>),
          )}
          {row(
            'data',
            (v) =>
              v.data?.map((d) => (
                <div key={d.data + d.role}>
                  {d.role.replace('-', ' ')} <To to={`/models/trace?from=${encodeURIComponent(d.data)}`}>{d.data}</To>
                </div>
              )) ?? '–',
          )}
          {row('code', (v) => (v.code ? `${v.code.commit.slice(0, 10)}${v.code.dirty ? ', changed' : ''}` : '–'))}
          {row('run', (v) => (v.run ? <To to={`/models/runs/${v.run}`}>{v.run}</To> : '–'))}
          {row('size', (v) => bytes(v.size))}
          {row('format', (v) => v.formats.join(', ') || '–')}
          {row('registered', (v) => (
            <Ago at={v.created_at} />
          ))}
        </tbody>
      </table>
      <p className="text-ink-2 mt-2 text-[12.5px]">
        {l.base ? `Differences are to ${l.base}, which is live. ` : ''}
        {l.same_params > 0 ? `${l.same_params} parameters are equal in all.` : ''}
      </p>
    </div>
  )
}
