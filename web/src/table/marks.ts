import type { Fault, State } from '../api/client'
import type { Piece } from '../scene/pieces'
import { ELSEWHERE } from '../scene/pieces'
import { islandsOf } from '../scene/states'
import type { Baked } from '../store/types'
import type { Marks, Spot } from './overlay'

export const NONE: Marks = { gaps: [], leashes: [], corners: [], pins: [], bunches: [], misses: [] }

type Middle = [u: number, v: number]

/** The middle of an island's box on the sheet that is shown; null where it lies elsewhere. */
function middleOf(pieces: Piece[], file: number, i: number): Middle | null {
  const piece = pieces.find((p) => p.file === file)
  if (!piece || piece.mark(i) & ELSEWHERE) return null
  const box = piece.box(i)
  return [(box.min.x + box.max.x) / 2, (box.min.y + box.max.y) / 2]
}

const there = <T>(m: T | null): m is T => m !== null

/** Kinds of marks, by what they are called where they are switched. */
export const MARKS = {
  overlaps: 'overlaps, cross-hatched',
  flipped: 'mirrored, hatched with a folded corner',
  outside: 'outside, on a leash',
  gaps: 'narrow gaps, with their px',
  rules: 'held islands and bunches',
  misses: 'test bake: rays that missed, bad seams',
}
export type MarkKind = keyof typeof MARKS

/** Where islands are held, and which lie together. */
export function ruleMarks(state: State, pieces: Piece[]): Pick<Marks, 'pins' | 'bunches'> {
  const middles = (keys: Iterable<string>) =>
    Object.entries(islandsOf(state, new Set(keys)))
      .flatMap(([file, islands]) => islands.map((i) => middleOf(pieces, Number(file), i)))
      .filter(there)
  return {
    pins: middles(state.settings.held ?? []),
    bunches: (state.settings.bunches ?? []).map((b) => middles(b.members)),
  }
}

/** Where the map of the test bake that is shown went wrong: rays that met nothing of the detailed mesh, and seams whose sides differ too much. */
export function missMarks(baked: Baked | null, map: string, sheet: number, kinds: Set<MarkKind>): Middle[] {
  if (!map || baked?.sheet !== sheet || !kinds.has('misses')) return []
  return baked.tiles.flatMap((t) => [...t.missed_at, ...(t.seams[map]?.bad_at ?? [])])
}

/** Where the faults are on a sheet. */
export function faultMarks(faults: Fault[], pieces: Piece[], sheet: number, kinds: Set<MarkKind>): Marks {
  const here = faults.filter((f) => f.sheet === sheet)
  const spot = ([file, i]: [number, number]): Spot | null => {
    const at = middleOf(pieces, file, i)
    return at && { at, keys: [`${file}:${i}`] }
  }
  const spots = (...of: string[]) =>
    here
      .filter((f) => of.includes(f.kind))
      .flatMap((f) => (f.islands as [number, number][]).map(spot))
      .filter(there)
  const narrow = here.find((f) => f.kind === 'gap')
  const gaps = (narrow?.places ?? []).map(([u, v, px], n) => {
    const [a, i, b, j] = narrow!.pairs[n] ?? []
    return { at: [u, v] as Middle, px, keys: [`${a}:${i}`, `${b}:${j}`] }
  })
  return {
    ...NONE,
    gaps: kinds.has('gaps') ? gaps : [],
    leashes: kinds.has('outside') ? spots('outside', 'astride') : [],
    corners: kinds.has('flipped') ? spots('flipped') : [],
  }
}
