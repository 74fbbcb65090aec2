import type { Fault, State } from '../api/client'

/** Keys of the objects whose UVs moving islands cannot save: they have none, fold, overlap themselves or are stretched. */
export function beyondSaving(state: State, faults: Fault[]): string[] {
  const bad = new Map<number, number[]>()
  for (const f of faults)
    if (f.repair === 'unwrap')
      for (const [file, i] of f.islands as [number, number][]) bad.set(file, [...(bad.get(file) ?? []), i])
  return state.objects
    .filter((o) => {
      if (o.left_out) return false
      const end = o.first_island + o.islands
      return o.bare > 0 || (bad.get(o.file) ?? []).some((i) => i >= o.first_island && i < end)
    })
    .map((o) => o.key)
}

/** Keys of the objects that a selection names, by themselves or by one of their islands. */
export function objectsOf(state: State, selection: Set<string>): string[] {
  const islands = [...selection].filter((k) => k.includes(':')).map((k) => k.split(':').map(Number))
  return state.objects
    .filter(
      (o) =>
        selection.has(o.key) ||
        islands.some(([file, i]) => file === o.file && i >= o.first_island && i < o.first_island + o.islands),
    )
    .map((o) => o.key)
}
