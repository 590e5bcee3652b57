import { useRef, useState, type ReactNode } from 'react'
import { useParams, useSearchParams } from 'react-router'

import type { Series } from '../api/client'
import { useEndpoint } from '../api/queries'
import { useSeries } from '../api/series'
import { measureText, type Measure } from '../charts/measure'
import { pngOf, save, svgIn } from '../charts/save'
import { csvOf, linesOf, rowsOf, type Drawn } from '../charts/series'
import { SeriesChart, SeriesTable } from '../charts/series-chart'
import { Switchboard } from '../ui/overlays'
import { Button, Empty, inputLook, LinkButton, Loaded, PageHead, Panel, To } from '../ui/parts'
import { SpanSwitch } from '../ui/span-switch'
import { spans, windows } from '../ui/spans'
import { AccuracyOver, CustomOver, DriftOver } from './later'
import { mainOf } from './main-of'

const quantiles: Measure[] = ['p50_ms', 'p95_ms', 'p99_ms']

/** All signals of an endpoint over time, one below the other, with one crosshair through them. */
export function SignalsPage() {
  const { endpoint = '' } = useParams()
  const [search, setSearch] = useSearchParams()
  const span = spans.find((w) => w === search.get('last')) ?? '1 h'
  const from = Date.parse(search.get('from') ?? '')
  const to = Date.parse(search.get('to') ?? '')
  const zoomed = from < to
  const looked = zoomed
    ? {
        endpoint,
        window: `${Math.max(60, Math.ceil((to - from) / 1000))}s`,
        until: new Date(to).toISOString(),
      }
    : { endpoint, window: windows[span], until: undefined }
  const series = useSeries(endpoint, looked.window, looked.until)
  const main = mainOf(useEndpoint(endpoint).data) ?? ''
  const zoom = (a: number, b: number) =>
    setSearch({ last: span, from: new Date(a).toISOString(), to: new Date(Math.max(b, a + 60_000)).toISOString() })
  const over = series.data && { over: { series: series.data, zoom } }
  return (
    <>
      <PageHead
        title={`Signals of ${endpoint}`}
        sub={
          <>
            <To to={`/endpoints/${endpoint}`}>{endpoint}</To> over time, UTC; drag over a chart to look closer
          </>
        }
      >
        {zoomed && <Button onClick={() => setSearch({ last: span })}>Back to the last {span}</Button>}
        <SpanSwitch
          value={zoomed ? undefined : span}
          least="15 min"
          most="7 days"
          onChange={(w) => setSearch({ last: w })}
        />
      </PageHead>
      <Loaded query={series}>
        {(s) => (
          <>
            <Between key={`${span} ${from} ${to}`} series={s} zoom={zoom} />
            {s.lanes.length + s.refused.length === 0 ? (
              <Panel>
                <Empty>Nobody has called in this time.</Empty>
              </Panel>
            ) : (
              <Charts series={s} main={main} zoom={zoom} />
            )}
          </>
        )}
      </Loaded>
      <DriftOver {...looked} {...over} />
      <AccuracyOver {...looked} {...over} />
      <CustomOver {...looked} {...over} />
    </>
  )
}

/** From when to when is looked, as text that can be changed: what was typed stays while the series goes on. */
function Between({ series, zoom }: { series: Series; zoom: (from: number, to: number) => void }) {
  const [typed, setTyped] = useState<{ from?: string; to?: string }>({})
  const from = typed.from ?? series.from.slice(0, 19)
  const to = typed.to ?? series.to.slice(0, 19)
  const field = (label: string, value: string, set: (v: string) => void) => (
    <input aria-label={label} className={`${inputLook} max-w-52`} value={value} onChange={(e) => set(e.target.value)} />
  )
  return (
    <form
      className="flex flex-wrap items-center gap-2"
      onSubmit={(event) => {
        event.preventDefault()
        const [a, b] = [Date.parse(`${from}Z`), Date.parse(`${to}Z`)]
        if (a < b) zoom(a, b)
      }}
    >
      from {field('From, UTC', from, (v) => setTyped({ ...typed, from: v }))} to{' '}
      {field('To, UTC', to, (v) => setTyped({ ...typed, to: v }))} UTC
      <Button type="submit">Look</Button>
    </form>
  )
}

function Charts({ series, main, zoom }: { series: Series; main: string; zoom: (from: number, to: number) => void }) {
  const [quantile, setQuantile] = useState<Measure>('p99_ms')
  const [log, setLog] = useState('linear')
  const shared = { series, main, zoom }
  return (
    <>
      <One {...shared} drawn="rate" title="Requests a second" />
      <One {...shared} drawn="error_rate" title="Errors, share of requests" />
      <One {...shared} drawn={quantile} title={`Latency ${measureText[quantile]}, ms`} log={log === 'log'}>
        <Switchboard
          label="Quantile"
          value={measureText[quantile]}
          options={quantiles.map((q) => measureText[q])}
          onChange={(t) => setQuantile(quantiles.find((q) => measureText[q] === t) ?? 'p99_ms')}
        />
        <Switchboard label="Scale" value={log} options={['linear', 'log']} onChange={setLog} />
      </One>
      <One {...shared} drawn="refused" title="Turned away a second" />
    </>
  )
}

/** One chart, with its numbers as a table, CSV, SVG and PNG. */
function One({
  series,
  main,
  zoom,
  drawn,
  title,
  log = false,
  children,
}: {
  series: Series
  main: string
  zoom: (from: number, to: number) => void
  drawn: Drawn
  title: string
  log?: boolean
  children?: ReactNode
}) {
  const [asTable, setAsTable] = useState(false)
  const chart = useRef<HTMLDivElement>(null)
  const name = `${series.endpoint}-${drawn}`
  const svg = () => svgIn(chart.current)
  return (
    <Panel
      title={title}
      aside={
        <span className="flex flex-wrap items-center gap-3 text-[12.5px]">
          {children}
          <LinkButton onClick={() => setAsTable(!asTable)}>{asTable ? 'chart' : 'table'}</LinkButton>
          <LinkButton
            onClick={() => save(`${name}.csv`, 'text/csv', csvOf(rowsOf(series, drawn), linesOf(series, drawn, main)))}
          >
            CSV
          </LinkButton>
          {!asTable && (
            <>
              <LinkButton onClick={() => save(`${name}.svg`, 'image/svg+xml', svg() ?? '')}>SVG</LinkButton>
              <LinkButton onClick={() => pngOf(svg() ?? '', (png) => save(`${name}.png`, 'image/png', png))}>
                PNG
              </LinkButton>
            </>
          )}
        </span>
      }
    >
      <div ref={chart} data-chart={drawn}>
        {asTable ? (
          <div className="max-h-80 overflow-y-auto">
            <SeriesTable series={series} drawn={drawn} main={main} all />
          </div>
        ) : (
          <SeriesChart series={series} drawn={drawn} main={main} syncId={series.endpoint} log={log} onZoom={zoom} />
        )}
      </div>
    </Panel>
  )
}
