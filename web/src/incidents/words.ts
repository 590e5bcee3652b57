import type { Incident } from '../api/incidents'

/** What went wrong, after the name of the version. */
export function titleOf(i: Incident): string {
  const signal = i.signal ?? ''
  if (signal === 'error_rate') return 'failed more'
  if (signal === 'timeout_rate') return 'timed out more'
  if (signal.startsWith('latency')) return 'was slower'
  if (signal === 'prediction_drift') return 'predicted something else'
  if (signal === 'missing_outputs') return 'did not give its outputs'
  if (signal === 'placement_health') return 'had no healthy model server'
  return `was taken back by ${i.by}`
}
