import type { State } from '../api/client'
import type { Stage } from '../store'

/** How many points a stage has open. */
export function openPoints(stage: Stage, state: State | null): number {
  const f = state?.figures
  if (!state || !f) return stage === 'Gather' ? 1 : 0
  switch (stage) {
    case 'Inspect':
      return (
        state.objects.filter((o) => o.islands === 0 && !o.left_out).length +
        (f.flipped ? 1 : 0) +
        (f.overlap.self ? 1 : 0)
      )
    case 'Even and arrange':
      return state.packed ? 0 : 1
    case 'Prove':
      return [f.overlap.pairs, f.overlap.self, f.outside].filter((n) => n > 0).length
    default:
      return 0
  }
}
