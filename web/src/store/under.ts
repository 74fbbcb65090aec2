import type { StoreApi } from 'zustand'
import { flatOf } from '../scene/sheets'
import type { Quilt } from './types'

/** What islands are held against the picture under them by. */
export interface Against {
  /** Ends of what is measured on the sheet: one or two. */
  measured: [u: number, v: number][]
  measure: (at: [u: number, v: number]) => void
  /** Whether pictures under the tiles go on beyond them. */
  tiled: boolean
  setTiled: (on: boolean) => void
}

/** How long what was measured is, in px of the sheet's map; 0 where there are no two ends. */
export function measuredPx({ measured, state, sheet }: Pick<Quilt, 'measured' | 'state' | 'sheet'>): number {
  if (!state || measured.length < 2) return 0
  const [[a, b], [c, d]] = measured
  return Math.hypot(c - a, d - b) * flatOf(state.settings, sheet).map_px
}

export function against(set: StoreApi<Quilt>['setState'], get: () => Quilt): Against {
  return {
    measured: [],
    measure: (at) => set({ measured: get().measured.length === 1 ? [...get().measured, at] : [at] }),
    tiled: false,
    setTiled: (tiled) => set({ tiled }),
  }
}
