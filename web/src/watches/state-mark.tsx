import { Ban, Check, CircleSlash, FlaskConical, Moon, Waves, X } from 'lucide-react'

import type { State } from './states'

const marks = {
  unhealthy: [CircleSlash, 'text-bad'],
  failing: [X, 'text-bad'],
  refusing: [Ban, 'text-bad'],
  drifting: [Waves, 'text-trial'],
  'no traffic': [Moon, 'text-ink-2'],
  'on trial': [FlaskConical, 'text-trial'],
  well: [Check, 'text-main'],
} as const satisfies Record<State, unknown>

/** How an endpoint is: a shape and a word. */
export function EndpointState({ state }: { state: State | undefined }) {
  if (!state) return null
  const [Icon, tone] = marks[state]
  return (
    <span data-state={state} className={`inline-flex items-center gap-1 text-[12.5px] font-semibold ${tone}`}>
      <Icon size={13} aria-hidden /> {state}
    </span>
  )
}
