import type { Alert } from '../api/client'
import { useEndpoint } from '../api/queries'
import { useSeries } from '../api/series'
import type { Drawn } from '../charts/series'
import { SeriesChart } from '../charts/series-chart'
import { mainOf } from '../endpoints/main-of'
import { To } from '../ui/parts'

/** What is drawn of a signal; nothing of those that are of columns. */
function drawnOf(signal: string): Drawn | undefined {
  if (/^(error|timeout|fallback)_rate/.test(signal)) return 'error_rate'
  if (/^(refusal|caller_error)_rate/.test(signal)) return 'refused'
  if (/^slow_rate|^latency_p99|^latency_p9[05]/.test(signal)) return 'p99_ms'
  if (signal.startsWith('latency_p50')) return 'p50_ms'
  return signal.startsWith('request_rate') ? 'rate' : undefined
}

/** How long before and after an alert is drawn, in milliseconds. */
const around = 7 * 60_000

/** What an alert of a watch is about, drawn: its signal around the moment, or the way to the page that shows it. */
export function AlertPicture({ alert: a }: { alert: Alert }) {
  const drawn = drawnOf(a.signal)
  if (a.kind !== 'watch_fired') return null
  if (a.subject === 'accuracy') return <To to={`/endpoints/${a.endpoint}/accuracy`}>How right it is, over time</To>
  if (!drawn) {
    return <To to={`/endpoints/${a.endpoint}/drift?against=before`}>What has moved, column by column</To>
  }
  return <Drawing alert={a} drawn={drawn} />
}

function Drawing({ alert: a, drawn }: { alert: Alert; drawn: Drawn }) {
  const raised = Date.parse(a.raised_at)
  const series = useSeries(a.endpoint, `${(2 * around) / 1000}s`, new Date(raised + around).toISOString()).data
  const main = mainOf(useEndpoint(a.endpoint).data) ?? ''
  if (!series || series.lanes.length + series.refused.length === 0) return null
  return (
    <div className="mt-3 max-w-180" data-picture={drawn}>
      <SeriesChart series={series} drawn={drawn} main={main} />
    </div>
  )
}
