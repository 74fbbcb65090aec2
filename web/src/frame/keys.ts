import { useEffect } from 'react'
import { useQuilt } from '../store'

/** The usual keys of the web: undo, redo, select all, none, and F to show everything. */
export function useKeys(): void {
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      if (e.target instanceof HTMLInputElement || e.target instanceof HTMLSelectElement) return
      const q = useQuilt.getState()
      const key = e.key.toLowerCase()
      if ((e.ctrlKey || e.metaKey) && key === 'z') {
        if (!q.job) void q.step(e.shiftKey ? 'redo' : 'undo')
      } else if ((e.ctrlKey || e.metaKey) && key === 'a') q.select(q.state?.objects.map((o) => o.key) ?? [])
      else if (key === 'escape') q.select([])
      else if (key === 'f' && !e.ctrlKey && !e.metaKey) q.fit()
      else return
      e.preventDefault()
    }
    addEventListener('keydown', press)
    return () => removeEventListener('keydown', press)
  }, [])
}
