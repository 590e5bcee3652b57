import { useSyncExternalStore } from 'react'

let now = new Date()
const listeners = new Set<() => void>()

setInterval(() => {
  now = new Date()
  for (const l of listeners) l()
}, 5000)

function subscribe(listener: () => void) {
  listeners.add(listener)
  return () => listeners.delete(listener)
}

/** The time, renewed every few seconds for all who show how long ago something was. */
export const useClock = () => useSyncExternalStore(subscribe, () => now)
