import { useEffect } from 'react'
import { useFaults } from '../stages/walk'
import { STAGES, useQuilt } from '../store'

/** The usual keys of the web, and single letters for what is done often; `Shortcuts.tsx` lists them. */
export function useKeys(): void {
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      if (e.target instanceof HTMLInputElement || e.target instanceof HTMLSelectElement) return
      if (e.ctrlKey || e.metaKey ? withControl(e) : plain(e)) e.preventDefault()
    }
    addEventListener('keydown', press)
    return () => removeEventListener('keydown', press)
  }, [])
}

function withControl(e: KeyboardEvent): boolean {
  const q = useQuilt.getState()
  const key = e.key.toLowerCase()
  if (key === 'z') {
    if (!q.job) void q.step(e.shiftKey ? 'redo' : 'undo')
  } else if (key === 'a') q.select(q.state?.objects.map((o) => o.key) ?? [])
  else return false
  return true
}

function plain(e: KeyboardEvent): boolean {
  const q = useQuilt.getState()
  const key = e.key.toLowerCase()
  const stage = STAGES[Number(key) - 1]
  if (key === 'escape') q.select([])
  else if (key === 'f') q.fit()
  else if (key === 's') q.show()
  else if (key === 'p') q.setPicks(q.picks === 'objects' ? 'islands' : 'objects')
  else if (key === 'n') {
    const walk = useFaults.getState()
    walk.go(walk.kind, e.shiftKey ? -1 : 1)
  } else if (stage) q.setStage(stage)
  else return false
  return true
}
