import type { Fault, State } from '../api/client'
import { holds } from './objects'

/** Keys of the objects whose UVs moving islands cannot save: they have none, fold, overlap themselves or are stretched. */
export function beyondSaving(state: State, faults: Fault[]): string[] {
  const bad = new Map<number, number[]>()
  for (const f of faults)
    if (f.repair === 'unwrap')
      for (const [file, i] of f.islands as [number, number][]) bad.set(file, [...(bad.get(file) ?? []), i])
  return state.objects
    .filter((o) => {
      if (o.left_out) return false
      return o.bare > 0 || (bad.get(o.file) ?? []).some((i) => holds(o, i))
    })
    .map((o) => o.key)
}

/**
 * A selection in a state in which files have other UVs, and so other numbers: each file stands where it stood. Objects stay selected; of islands, which may be
 * others now, the objects that they belong to.
 */
export function followed(selection: ReadonlySet<string>, before: State, after: State): Set<string> {
  const there = new Set(after.files.map((f) => f.id))
  const out = new Set<string>()
  for (const key of selection) {
    const file = parseInt(key, 10)
    const place = before.files.findIndex((f) => f.id === file)
    if (there.has(file) || place < 0) out.add(key)
    else if (before.files.length === after.files.length) {
      const now = after.files[place]?.id
      if (now !== undefined) for (const o of objectsOf(before, new Set([key]))) out.add(`${now}/${o.split('/')[1]}`)
    }
  }
  return out
}

/** Keys of the objects that a selection names, by themselves or by one of their islands. */
export function objectsOf(state: State, selection: ReadonlySet<string>): string[] {
  const islands = [...selection].filter((k) => k.includes(':')).map((k) => k.split(':').map(Number))
  return state.objects
    .filter((o) => selection.has(o.key) || islands.some(([file, i]) => file === o.file && holds(o, i)))
    .map((o) => o.key)
}
