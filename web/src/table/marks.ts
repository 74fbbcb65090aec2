import type { Fault, State } from '../api/client'
import type { Piece } from '../scene/pieces'
import { ELSEWHERE } from '../scene/pieces'
import { islandsOf } from '../scene/states'
import type { Marks } from './overlay'

export const NONE: Marks = { gaps: [], leashes: [], corners: [], pins: [], bunches: [] }
const MOST = 400

type Middle = [u: number, v: number]

/** The middle of an island's box on the sheet that is shown; null where it lies elsewhere. */
function middleOf(pieces: Piece[], file: number, i: number): Middle | null {
  const piece = pieces.find((p) => p.file === file)
  if (!piece || piece.mark(i) & ELSEWHERE) return null
  const box = piece.box(i)
  return [(box.min.x + box.max.x) / 2, (box.min.y + box.max.y) / 2]
}

const there = (m: Middle | null): m is Middle => m !== null

/** Where islands are held, and which lie together. */
export function ruleMarks(state: State, pieces: Piece[]): Pick<Marks, 'pins' | 'bunches'> {
  const middles = (keys: Iterable<string>) =>
    Object.entries(islandsOf(state, new Set(keys)))
      .flatMap(([file, islands]) => islands.slice(0, MOST).map((i) => middleOf(pieces, Number(file), i)))
      .filter(there)
  return {
    pins: middles(state.settings.held ?? []),
    bunches: (state.settings.bunches ?? []).map((b) => middles(b.members)),
  }
}

/** Where the faults are on a sheet. */
export function faultMarks(faults: Fault[], pieces: Piece[], sheet: number): Marks {
  const here = faults.filter((f) => f.sheet === sheet)
  const middles = (...kinds: string[]) =>
    here
      .filter((f) => kinds.includes(f.kind))
      .flatMap((f) => (f.islands as [number, number][]).slice(0, MOST).map(([file, i]) => middleOf(pieces, file, i)))
      .filter(there)
  const gaps = (here.find((f) => f.kind === 'gap')?.places ?? []) as [number, number, number][]
  return { ...NONE, gaps, leashes: middles('outside', 'astride'), corners: middles('flipped') }
}
