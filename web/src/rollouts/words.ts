import type { Rollout } from '../api/rollouts'
import { share, words } from '../ui/format'

/** A duration as Go writes it, such as 1h30m or 12.5s, in seconds. */
export function seconds(go: string): number {
  const unit: Record<string, number> = { h: 3600, m: 60, s: 1, ms: 0.001, µs: 1e-6, us: 1e-6, ns: 1e-9 }
  let sum = 0
  for (const [, n, u] of go.matchAll(/([0-9.]+)(h|ms|m|µs|us|ns|s)/g)) sum += Number(n) * (unit[u ?? 's'] ?? 1)
  return sum
}

/** How long something takes, as people say it. */
export function lasting(go: string): string {
  const s = seconds(go)
  if (s < 90) return `${Math.round(s)} s`
  if (s < 90 * 60) return `${Math.round(s / 60)} min`
  if (s < 48 * 3600) return `${(s / 3600).toFixed(1).replace('.0', '')} h`
  return `${(s / 86_400).toFixed(1).replace('.0', '')} days`
}

export const planName = (plan: { name: string; revision?: number }) =>
  plan.revision ? `${plan.name}#${plan.revision}` : plan.name

/** Where a rollout stands, in a few words. */
export function stands(o: Rollout): string {
  const where = o.phase === 'stepping' ? `step ${o.step + 1} of ${(o.plan.steps ?? []).length}` : words(o.phase)
  return o.held ? `${where}, held` : where
}

/** What the candidate of a rollout has: a share, or copies of one. */
export const has = (o: Rollout) => (o.copies && !o.share ? `copies of ${share(o.copies)}` : share(o.share))

/** How the state of a rollout is coloured; the word stands beside it. */
export const tone = (o: Rollout) =>
  o.phase === 'rolled_back' || o.phase === 'refused'
    ? 'bad'
    : o.phase === 'finished'
      ? 'main'
      : o.phase === 'ended'
        ? 'quiet'
        : 'trial'

/** What a guard does when it fires; of a version that only gets copies there is nothing to roll back. */
export const response = (then: 'notify' | 'hold' | 'roll_back' = 'roll_back', copies = false) =>
  ({ notify: 'tells somebody', hold: 'holds it', roll_back: copies ? 'ends its copies' : 'rolls back' })[then]

export const isOver = (o: Rollout) => ['finished', 'rolled_back', 'ended', 'refused'].includes(o.phase)
