import { create } from 'zustand'
import { useQuilt } from '../store'

interface FaultSteps {
  kind: string
  sheet: number
  index: number
  /** Go to the next (1) or the one before (-1) of a kind of fault of a sheet, and show it in both views. */
  go: (kind: string, step: number, sheet?: number) => void
}

/** Where the walk through the faults stands. */
export const useFaults = create<FaultSteps>((set, get) => ({
  kind: '',
  sheet: 0,
  index: -1,
  go(kind, step, sheet = get().sheet) {
    const { faults, select, setSheet } = useQuilt.getState()
    const found = faults.filter((f) => f.islands.length)
    const fault =
      found.find((f) => f.kind === kind && f.sheet === sheet) ?? found.find((f) => f.kind === kind) ?? found[0]
    if (!fault) return
    const count = fault.islands.length
    const from = get().kind === fault.kind && get().sheet === fault.sheet ? get().index : step > 0 ? -1 : 0
    const index = (from + step + count) % count
    set({ kind: fault.kind, sheet: fault.sheet, index })
    setSheet(fault.sheet)
    const [file, island] = fault.islands[index]
    select([`${file}:${island}`], false, true)
  },
}))
