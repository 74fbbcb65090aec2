import { create } from 'zustand'
import { useQuilt } from '../store'

interface Walk {
  kind: string
  index: number
  /** Go to the next (1) or the one before (-1) of a kind of fault, and show it in both views. */
  go: (kind: string, step: number) => void
}

/** Where the walk through the faults stands. */
export const useFaults = create<Walk>((set, get) => ({
  kind: '',
  index: -1,
  go(kind, step) {
    const { faults, select } = useQuilt.getState()
    const fault = faults.find((f) => f.kind === kind) ?? faults[0]
    if (!fault?.islands.length) return
    const count = fault.islands.length
    const from = get().kind === fault.kind ? get().index : step > 0 ? -1 : 0
    const index = (from + step + count) % count
    set({ kind: fault.kind, index })
    const [file, island] = fault.islands[index]
    select([`${file}:${island}`], false, true)
  },
}))
