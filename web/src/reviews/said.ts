import type { Promotion } from '../api/client'
import { exact } from '../ui/format'

type SignOff = Promotion['sign_offs'][number]

/** What someone answered, in words. */
export function said(s: SignOff): string {
  const what =
    s.answer === 'later'
      ? `answers after ${s.until ? exact(new Date(s.until)).slice(0, 16) : 'a while'} UTC`
      : s.answer === 'hand_over'
        ? `handed it to ${s.to ?? ''}`
        : `said ${s.answer}`
  if (s.void) return `${what} (void: ${s.void})`
  return s.stale ? `${what} (stale)` : what
}
