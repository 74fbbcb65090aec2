import { useSyncExternalStore } from 'react'

const KEY = 'theme'
const system = matchMedia('(prefers-color-scheme: dark)')
const listeners = new Set<() => void>()

/** Whether it is night: as somebody chose, or else as the system says. */
export function isNight(): boolean {
  const chosen = localStorage.getItem(KEY)
  return chosen ? chosen === 'night' : system.matches
}

function show(): void {
  document.documentElement.classList.toggle('dark', isNight())
  for (const heard of listeners) heard()
}

/** Turn day into night or back. Who chooses what the system says follows the system again. */
export function turn(): void {
  const night = !isNight()
  if (night === system.matches) localStorage.removeItem(KEY)
  else localStorage.setItem(KEY, night ? 'night' : 'day')
  show()
}

function listen(heard: () => void): () => void {
  listeners.add(heard)
  return () => listeners.delete(heard)
}

export const useNight = () => useSyncExternalStore(listen, isNight)

system.addEventListener('change', show)
show()
