import { ms, percent } from '../ui/format'

export type Measure = 'p50_ms' | 'p95_ms' | 'p99_ms' | 'rate' | 'error_rate'

export const measureText: Record<Measure, string> = {
  p50_ms: 'p50',
  p95_ms: 'p95',
  p99_ms: 'p99',
  rate: 'rate',
  error_rate: 'errors',
}

export const write: Record<Measure, (x: number) => string> = {
  p50_ms: ms,
  p95_ms: ms,
  p99_ms: ms,
  rate: (x) => `${x.toFixed(x < 10 ? 1 : 0)}/s`,
  error_rate: (x) => percent(x, x < 0.1 ? 2 : 0),
}
