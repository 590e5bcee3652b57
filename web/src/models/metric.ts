import type { Version } from '../api/client'

/** The usual metrics, the first that is there leads; and whether less of it is better. */
const usual: readonly (readonly [string, boolean])[] = [
  ['rmse', true],
  ['mae', true],
  ['balanced_accuracy', false],
  ['accuracy', false],
  ['macro_f1', false],
  ['f1', false],
  ['r2', false],
]

/** The metric by which the versions of a model are best told apart; less is undefined when its name does not say which way is better. */
export function leadingMetric(versions: Version[]): { name: string; less?: boolean } | undefined {
  const names = new Set(versions.flatMap((v) => Object.keys(v.metrics)))
  const known = usual.find(([m]) => names.has(m))
  if (known) return { name: known[0], less: known[1] }
  const first = [...names].sort()[0]
  return first === undefined ? undefined : { name: first }
}
