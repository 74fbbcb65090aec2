import type { State } from '../api/client'
import { length, plain } from '../words'

export type File = State['files'][number]
export type Unit = readonly [metres: number, name: string, meant: string]

/** Units of files that do not say theirs. */
const PLAIN: Unit[] = [
  [1, 'm', 'metres'],
  [0.01, 'cm', 'centimetres'],
  [0.001, 'mm', 'millimetres'],
  [0.0254, 'in', 'inches'],
  [0.3048, 'ft', 'feet'],
]
/** What files that say their unit can be wrong by. */
const TIMES: Unit[] = [
  [1, 'as it says', 'the size that it says'],
  [0.01, 'a hundredth', 'centimetres'],
  [0.001, 'a thousandth', 'millimetres'],
  [0.0254, 'inches for metres', 'inches'],
  [0.3048, 'feet for metres', 'feet'],
  [100, 'a hundred times', 'metres taken for centimetres'],
  [1000, 'a thousand times', 'metres taken for millimetres'],
]

const unitsOf = (says: boolean): readonly Unit[] => (says ? TIMES : PLAIN)

/** The units of files that say theirs or do not, as the options of a choice. */
export const unitNames = (says: boolean) => unitsOf(says).map(([metres, name]) => [String(metres), name] as const)

// Sizes that objects of games have, in metres; common practice, no source.
const SURE = [0.1, 30]
const HUGE = 100
const TINY = 0.005

/** How far a file reaches at most, and along which axis. */
function largest(f: File): [metres: number, axis: number] {
  const size = f.size_m ?? []
  const most = Math.max(0, ...size)
  return [most, size.indexOf(most)]
}

/** The unit that a file of a size that cannot be meant may be in; null where there is nothing to ask. */
export function meantUnit(f: File, says: boolean): Unit | null {
  const [now] = largest(f)
  if (!now || (now < HUGE && now > TINY)) return null
  const fits = ([metres]: Unit) => {
    const then = (now / f.unit_m) * metres
    return metres !== f.unit_m && then >= SURE[0] && then <= SURE[1]
  }
  return unitsOf(says).find(fits) ?? null
}

/** "130 m tall": how large a file is, at its largest. */
export function reach(f: File): string {
  const [most, axis] = largest(f)
  return `${length(most)} ${['wide', 'tall', 'deep'][axis] ?? 'large'}`
}

/** "1.3 × 0.4 × 2 m": along x, y and z, in the unit that keeps the largest short. */
export function sizeOf(f: File): string {
  const [most] = largest(f)
  const [times, unit] = most >= 1 ? [1, 'm'] : most >= 0.001 ? [100, 'cm'] : [1000, 'mm']
  return f.size_m ? `${f.size_m.map((n) => plain(times * n, 3)).join(' × ')} ${unit}` : ''
}

/** Files that may be in another unit: those whose size cannot be meant, and all of their kind that would still make sense in it. */
export interface Question {
  unit: Unit
  odd: File[]
  alike: File[]
}

// The middle one of several files of a kit; a single building may be as large, a kit of them hardly (common practice, no source).
const LARGE_KIT = 15
const KIT = 3

/** What is asked about units: files of one format that came in the same unit are asked about together. */
export function asked(files: readonly File[], says: (f: File) => boolean): Question[] {
  const kinds = new Map<string, File[]>()
  for (const f of files) {
    const kind = `${f.name.toLowerCase().split('.').pop()} ${f.unit_m}`
    kinds.set(kind, [...(kinds.get(kind) ?? []), f])
  }
  return [...kinds.values()].flatMap((kind) => questions(kind, says(kind[0])))
}

function questions(kind: File[], says: boolean): Question[] {
  const found = new Map<string, Question>()
  for (const f of kind) {
    const unit = meantUnit(f, says)
    if (!unit) continue
    const q = found.get(unit[2]) ?? { unit, odd: [], alike: kind.filter((k) => makesSense(k, unit)) }
    q.odd.push(f)
    found.set(unit[2], q)
  }
  const middle = kind.map((f) => largest(f)[0]).sort((a, b) => a - b)[Math.floor(kind.length / 2)]
  if (found.size || kind.length < KIT || middle < LARGE_KIT || says) return [...found.values()]
  const unit = unitsOf(says).find(
    ([metres]) => metres < kind[0].unit_m && kind.every((f) => makesSense(f, [metres, '', ''])),
  )
  return unit ? [{ unit, odd: kind, alike: kind }] : []
}

function makesSense(f: File, [metres]: Unit): boolean {
  const then = (largest(f)[0] / f.unit_m) * metres
  return then > TINY && then < SURE[1]
}

/** How many times as large the largest file of some is as the smallest. */
export function apart(files: readonly File[]): number {
  const sizes = files.map((f) => largest(f)[0]).filter((size) => size > 0)
  return sizes.length ? Math.max(...sizes) / Math.min(...sizes) : 1
}
