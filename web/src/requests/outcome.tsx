import { Ban, Check, CircleAlert, CornerDownRight, X } from 'lucide-react'

import type { KeptRequest } from '../api/client'
import { short, words } from '../ui/format'
import { Ref } from '../ui/parts'

/** How a request ended: a shape and a word, with the status where that says more. */
export function Outcome({ request: r }: { request: Pick<KeptRequest, 'outcome' | 'status'> }) {
  const [Icon, tone] =
    r.outcome === 'answered'
      ? ([Check, 'text-main'] as const)
      : r.outcome === 'refused'
        ? ([Ban, 'text-trial'] as const)
        : r.outcome === 'caller_error'
          ? ([CircleAlert, 'text-trial'] as const)
          : ([X, 'text-bad'] as const)
  return (
    <span className={`inline-flex items-baseline gap-1.5 whitespace-nowrap ${tone}`}>
      <Icon size={13} aria-hidden className="self-center" /> {words(r.outcome)}
      {r.status !== 200 && ` ${r.status}`}
    </span>
  )
}

/** Who dealt with a request, and who was to. */
export function DealtWith({ request: r, whole = false }: { request: KeptRequest; whole?: boolean }) {
  if (!r.version) return <span className="text-ink-3">nobody</span>
  return (
    <span className="whitespace-nowrap">
      <Ref to={r.version}>{whole ? r.version : short(r.version)}</Ref>{' '}
      <span className="text-ink-2 text-[12.5px]">
        {r.instead_of ? (
          <>
            <CornerDownRight size={12} aria-hidden className="inline" /> instead of {short(r.instead_of)}
          </>
        ) : (
          r.lane !== 'main' && r.lane
        )}
      </span>
    </span>
  )
}
