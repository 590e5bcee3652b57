import { Line, LineChart, YAxis } from 'recharts'

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
      <LineChart
        width={72}
        height={18}
        data={minutes}
        margin={{ top: 2, right: 0, bottom: 2, left: 0 }}
        accessibilityLayer={false}
      >
        <YAxis hide domain={[0, 'dataMax']} />
        <Line
          dataKey="rate"
          dot={false}
          strokeWidth={1.5}
          isAnimationActive={false}
          stroke={failed > 0 ? 'var(--bad)' : 'var(--main)'}
        />
      </LineChart>
      {said}
    </span>
  )
}
