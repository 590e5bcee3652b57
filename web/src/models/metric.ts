import type { Version } from '../api/client'

const lower = ['rmse', 'mae', 'mape', 'mse', 'error', 'loss', 'brier', 'bias', 'latency', 'ece']

/** Whether less of a metric is better, by the field's habit for its name; the service judges the same way. */
export const lowerIsBetter = (metric: string) => lower.some((part) => metric.toLowerCase().includes(part))

const usual = ['rmse', 'mae', 'balanced_accuracy', 'accuracy', 'macro_f1', 'f1', 'r2']

/** The metric by which the versions of a model are best told apart. */
export function leadingMetric(versions: Version[]): string | undefined {
  const names = new Set(versions.flatMap((v) => Object.keys(v.metrics)))
  return usual.find((m) => names.has(m)) ?? [...names].sort()[0]
}
