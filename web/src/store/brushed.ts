import type { BrushHand } from '../scene/brushing'
import { useQuilt } from '.'

/** The brush as the pictures use it. */
export const brushHand: BrushHand = {
  on: () => useQuilt.getState().picks === 'brush',
  size: () => useQuilt.getState().hand.size,
  strength: () => useQuilt.getState().hand.strength,
  change: (size, strength) => useQuilt.getState().setHand({ size, strength }),
  stroke: (phase, under) => useQuilt.getState().brush(phase, under),
}
