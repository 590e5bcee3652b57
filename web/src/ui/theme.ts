import { useSyncExternalStore } from 'react'

const key = 'innerladder-theme'
const listeners = new Set<() => void>()

function wanted(): 'light' | 'dark' {
  const chosen = localStorage.getItem(key)
  if (chosen === 'light' || chosen === 'dark') return chosen
  return window.matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light'
}

export function applyTheme() {
  document.documentElement.classList.toggle('dark', wanted() === 'dark')
  for (const l of listeners) l()
}

export function switchTheme() {
  localStorage.setItem(key, wanted() === 'dark' ? 'light' : 'dark')
  applyTheme()
}

export const useTheme = () =>
  useSyncExternalStore((l) => {
    listeners.add(l)
    return () => listeners.delete(l)
  }, wanted)
