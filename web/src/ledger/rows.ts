import type { Fault, ObjectRow, State } from '../api/client'
import type { Piece } from '../scene/pieces'
import { sheetOfIsland } from '../scene/sheets'
import { weightOf } from '../scene/states'
import { CLOTH } from '../colours'

export const SORTS = {
  file: 'as in the files',
  density: 'by density',
  points: 'by open points',
  name: 'by name',
} as const
export type Sort = keyof typeof SORTS

/** A line of the ledger: an object, or an island of an open one. */
export type Line =
  | { kind: 'object'; key: string; sheet: number; object: ObjectRow; colour: string; open: boolean; rules: string[] }
  | {
      kind: 'island'
      key: string
      sheet: number
      name: string
      faults: string[]
      density: number | null
      weight: number
      rules: string[]
    }

/** The lines that the ledger shows. `fault`: only what has this kind of fault; `sheet`: only what lies on this sheet (0: on any). */
export function linesOf(
  state: State | null,
  pieces: Piece[],
  faults: Fault[],
  open: Set<string>,
  filter: string,
  sort: Sort,
  fault: string,
  sheet = 0,
): Line[] {
  const objects = state?.objects ?? []
  const words = filter.toLowerCase()
  const having = new Set(faults.flatMap((f) => (f.kind === fault ? f.islands.map(([g, i]) => `${g}:${i}`) : [])))
  const concerned = (o: ObjectRow) => {
    if (!fault) return true
    for (let i = o.first_island; i < o.first_island + o.islands; i++) if (having.has(`${o.file}:${i}`)) return true
    return false
  }
  const found = objects.filter(
    (o) =>
      (o.name + o.materials.join(' ')).toLowerCase().includes(words) &&
      (!sheet || o.sheets.includes(sheet)) &&
      concerned(o),
  )
  if (sort === 'density') found.sort((a, b) => (a.density?.median ?? 0) - (b.density?.median ?? 0))
  if (sort === 'name') found.sort((a, b) => a.name.localeCompare(b.name))
  if (sort === 'points') found.sort((a, b) => b.points - a.points)
  const kinds = new Map<string, string[]>()
  if (open.size)
    for (const f of faults)
      for (const [file, i] of f.islands) {
        const key = `${file}:${i}`
        kinds.set(key, [...(kinds.get(key) ?? []), f.kind])
      }
  const rules = rulesOf(state)
  const lines: Line[] = []
  for (const o of found) {
    const isOpen = open.has(o.key)
    lines.push({
      kind: 'object',
      key: o.key,
      sheet: o.sheets[0] ?? 0,
      object: o,
      rules: rules(o.key),
      colour: CLOTH[objects.indexOf(o) % CLOTH.length],
      open: isOpen,
    })
    if (!isOpen || !state) continue
    const piece = pieces.find((p) => p.file === o.file)
    for (let i = o.first_island; i < o.first_island + o.islands; i++) {
      const key = `${o.file}:${i}`
      if (fault && !having.has(key)) continue
      lines.push({
        kind: 'island',
        key,
        sheet: sheetOfIsland(state.settings, o.file, o.number, i),
        name: `island ${i - o.first_island + 1}`,
        faults: kinds.get(key) ?? [],
        density: piece?.density(i) ?? null,
        weight: weightOf(state, o.file, o.number, i),
        rules: rules(key),
      })
    }
  }
  return lines
}

/** The rules that are set on an object or island itself, in words. */
function rulesOf(state: State | null): (key: string) => string[] {
  const s = state?.settings
  const held = new Set(s?.held ?? [])
  const twins = new Set(s?.twins?.flat() ?? [])
  const bunch = new Map((s?.bunches ?? []).flatMap((b) => b.members.map((k) => [k, b.name] as const)))
  return (key) => {
    const turn = s?.rotations?.[key]
    const words = [
      held.has(key) && 'held',
      turn && (turn === 'none' ? 'upright' : `turns ${turn}`),
      bunch.get(key),
      twins.has(key) && 'twin',
    ]
    return words.filter((w): w is string => !!w)
  }
}
