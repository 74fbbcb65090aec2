import type { Fault, State } from '../api/client'
import { NO_ISLAND } from './geometry'
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

/** Which island each triangle of a file belongs to. */
export interface Numbered {
  file: number
  key: string
  data: { index: ArrayLike<number>; island: ArrayLike<number> }
}

/**
 * A selection in a state in which files have other UVs, and so other numbers: each file stands where it stood. Objects stay selected, and of islands those that
 * their triangles belong to now: the halves of one that was cut, all of one that was sewn. Where that cannot be told they are let go: never is more selected than
 * was meant.
 */
export function followed(
  selection: ReadonlySet<string>,
  before: State,
  after: State,
  pieces: readonly Numbered[],
  now: readonly Numbered[],
): Set<string> {
  const out = new Set<string>()
  const islands = new Map<number, Set<number>>()
  for (const key of selection) {
    const file = parseInt(key, 10)
    const to = standsFor(file, before, after)
    if (to === null) continue
    if (key.includes(':')) islands.set(file, (islands.get(file) ?? new Set()).add(Number(key.split(':')[1])))
    else out.add(`${to}/${key.split('/')[1]}`)
  }
  for (const [file, mine] of islands) {
    const to = standsFor(file, before, after)
    const was = pieces.find((p) => p.file === file)
    const is = now.find((p) => p.file === to)
    for (const i of was && is ? sameTriangles(mine, was, is) : to === file ? mine : []) out.add(`${to}:${i}`)
  }
  return out
}

/** The file that stands where one stood before; null where none does. */
function standsFor(file: number, before: State, after: State): number | null {
  if (after.files.some((f) => f.id === file)) return file
  const place = before.files.findIndex((f) => f.id === file)
  if (place < 0) return file
  return before.files.length === after.files.length ? after.files[place].id : null
}

/** The islands that the triangles of some belong to now. */
function sameTriangles(mine: ReadonlySet<number>, was: Numbered, is: Numbered): ReadonlySet<number> {
  if (was.key === is.key) return mine
  const out = new Set<number>()
  if (was.data.index.length !== is.data.index.length) return out
  for (let k = 0; k < was.data.index.length; k += 3) {
    if (!mine.has(was.data.island[was.data.index[k]])) continue
    const island = is.data.island[is.data.index[k]]
    if (island !== NO_ISLAND) out.add(island)
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
