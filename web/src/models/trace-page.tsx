import { lazy, Suspense } from 'react'
import { useSearchParams } from 'react-router'

import type { Trace } from '../api/client'
import { useTrace } from '../api/queries'
import { Switchboard } from '../ui/overlays'
import { Ago, Empty, inputLook, Loaded, PageHead, Panel, Ref, To } from '../ui/parts'
import { ModelPlaces } from './places'

const TraceGraph = lazy(() => import('./trace-graph').then((m) => ({ default: m.TraceGraph })))

const directions = { both: 'both ways', up: 'made from', down: 'went into' } as const
type Direction = keyof typeof directions

export function TracePage() {
  const [params, setParams] = useSearchParams()
  const from = params.get('from') ?? ''
  const direction = (params.get('direction') ?? 'both') as Direction
  const trace = useTrace(from, direction)
  return (
    <>
      <PageHead title="Lineage" sub="what something was made from, and what was made from it">
        <Switchboard
          label="Direction"
          value={directions[direction]}
          options={Object.values(directions)}
          onChange={(text) =>
            setParams({ from, direction: Object.entries(directions).find(([, t]) => t === text)?.[0] ?? 'both' })
          }
        />
        <form
          onSubmit={(event) => {
            event.preventDefault()
            setParams({ from: String(new FormData(event.currentTarget).get('from') ?? '').trim(), direction })
          }}
        >
          <input
            key={from}
            name="from"
            className={`${inputLook} w-[min(20rem,80vw)]!`}
            aria-label="Begin at"
            placeholder="version, data set, run, commit or request id"
            defaultValue={from}
          />
        </form>
      </PageHead>
      <ModelPlaces />
      {from === '' ? (
        <Panel>
          <Empty command="innerladder trace heat-demand@2">
            Say above where to begin: a version (heat-demand@2), a data set (winters-2024), a run (run-1), a commit, or
            the id of a request.
          </Empty>
        </Panel>
      ) : (
        <Loaded query={trace}>
          {(t) => (
            <>
              {t.answer && <AnswerPanel answer={t.answer} />}
              <Panel
                title={`${t.nodes.length} things, ${t.links.length} links${t.cut ? '; there is more than is shown' : ''}`}
                aside={<Legend />}
              >
                <TraceDrawing trace={t} />
              </Panel>
              <Panel title="The same as a list">
                <TraceList trace={t} />
              </Panel>
            </>
          )}
        </Loaded>
      )}
    </>
  )
}

/** The graph, which comes with a library of its own that other pages do not load. */
export function TraceDrawing({ trace, tall }: { trace: Trace; tall?: number }) {
  return (
    <Suspense fallback={<div className="text-ink-3 py-2">Drawing…</div>}>
      <TraceGraph trace={trace} tall={tall} />
    </Suspense>
  )
}

function AnswerPanel({ answer: a }: { answer: NonNullable<Trace['answer']> }) {
  return (
    <Panel title={`Request ${a.request}`}>
      <p className="max-w-[80ch] text-[15px]">
        <Ref to={a.version} /> answered it on the {a.lane} lane of <To to={`/endpoints/${a.endpoint}`}>{a.endpoint}</To>
        , split #{a.split}, <Ago at={a.at} />.{' '}
        {a.approval
          ? `It was let on its rung by ${a.approval}, signed by ${a.signed_by?.join(', ') ?? 'nobody'}.`
          : 'No promotion let it on its rung before.'}
      </p>
    </Panel>
  )
}

function Legend() {
  const marks = [
    ['version', 'rounded-lg border-main'],
    ['data set', 'border-trial-line'],
    ['run', 'rounded-full border-ink-3'],
    ['code', 'border-dashed border-ink-3'],
  ] as const
  return (
    <span className="text-ink-2 flex gap-3 text-[12.5px]">
      {marks.map(([text, look]) => (
        <span key={text} className="inline-flex items-center gap-1.5">
          <i className={`inline-block h-3 w-5 border-[1.5px] ${look}`} /> {text}
        </span>
      ))}
    </span>
  )
}

function TraceList({ trace }: { trace: Trace }) {
  const name = (id: string) => {
    const n = trace.nodes.find((x) => x.id === id)
    if (n?.kind === 'version') return <Ref to={id} />
    if (n?.kind === 'run') return <To to={`/models/runs/${id}`}>{id}</To>
    return <To to={`/models/trace?from=${encodeURIComponent(id)}`}>{n?.kind === 'code' ? id.slice(0, 12) : id}</To>
  }
  if (trace.links.length === 0) return <Empty>Nothing is linked to it.</Empty>
  return (
    <ul className="columns-1 gap-8 lg:columns-2">
      {trace.links.map((l) => (
        <li key={`${l.from} ${l.relation} ${l.to}`} className="py-0.5">
          {name(l.from)} <span className="text-ink-2">{l.relation}</span> {name(l.to)}
        </li>
      ))}
    </ul>
  )
}
