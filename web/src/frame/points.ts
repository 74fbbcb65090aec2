import type { Fault, State } from '../api/client'
import type { Stage } from '../store'

/** How many points a stage has open. */
export function openPoints(stage: Stage, state: State | null, faults: Fault[]): number {
  const f = state?.figures
  if (!state || !f) return stage === 'Gather' ? 1 : 0
  const kinds = (keep: (f: Fault) => boolean) => new Set(faults.filter(keep).map((f) => f.kind)).size
  switch (stage) {
    case 'Inspect':
      return (
        kinds((f) => f.heavy >= 2) + (state.objects.some((o) => o.islands === 0 && !o.left_out && !o.detail_of) ? 1 : 0)
      )
    case 'Mend':
      return kinds((f) => ['flip', 'into_tile', 'unwrap', 'clean'].includes(f.repair))
    case 'Even':
      return kinds((f) => f.repair === 'even')
    case 'Arrange':
      return state.sheets.filter((s) => s.islands && (!s.kept || s.stale.length)).length
    case 'Prove':
      return [f.overlap.pairs, f.overlap.self, f.outside].filter((n) => n > 0).length
    default:
      return 0
  }
}
