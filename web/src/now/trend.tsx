import type { EndpointNow } from '../api/client'
import { percent } from '../ui/format'

/** From how great a change on it is said that more, or fewer, come. */
const worthSaying = 0.1

const mean = (numbers: number[]) => numbers.reduce((a, b) => a + b, 0) / Math.max(1, numbers.length)

/** Where the requests of an endpoint go: the last two minutes that are over beside those before. */
function inWords(rates: number[]): string {
  const [before, lately] = [mean(rates.slice(0, -3)), mean(rates.slice(-3, -1))]
  if (rates.length < 5 || before === 0) return ''
  const change = lately / before - 1
  if (Math.abs(change) < worthSaying) return 'steady'
  return change > 0 ? `↗ ${percent(change)} more` : `↘ ${percent(-change)} fewer`
}

const wide = 72
const tall = 18

/** Rates as a line from 0 to the greatest. It is drawn by hand: charts are fetched where there are larger ones. */
function lineOf(rates: number[]): string {
  const most = Math.max(...rates) || 1
  const x = (i: number) => (wide * i) / (rates.length - 1)
  return rates.map((r, i) => `${x(i).toFixed(1)},${(tall - 2 - ((tall - 4) * r) / most).toFixed(1)}`).join(' ')
}

/** How an endpoint went in the last quarter of an hour: its requests as a line, and in words where they go. */
export function Trend({ of: now }: { of: EndpointNow | undefined }) {
  const minutes = now?.trend ?? []
  if (minutes.length < 3) return null
  const rates = minutes.map((m) => m.rate)
  const failed = minutes.filter((m) => m.error_rate > 0.01).length
  const said = [inWords(rates), failed > 0 && `failures in ${failed} of ${minutes.length} min`]
    .filter(Boolean)
    .join(', ')
  return (
    <span
      className="text-ink-2 inline-flex items-center gap-1.5 self-center text-[12.5px]"
      title={`requests a second in the last ${minutes.length} minutes: ${rates.join(', ')}`}
      data-trend={now?.endpoint}
    >
      <svg viewBox={`0 0 ${wide} ${tall}`} width={wide} height={tall} aria-hidden>
        <polyline
          points={lineOf(rates)}
          fill="none"
          strokeWidth="1.5"
          strokeLinejoin="round"
          stroke={failed > 0 ? 'var(--bad)' : 'var(--main)'}
        />
      </svg>
      {said}
    </span>
  )
}
