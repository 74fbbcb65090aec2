import type { Fault, ObjectRow, State } from '../api/client'
import type { Piece } from '../scene/pieces'
import * as THREE from 'three'
import { numbersOf } from '../scene/objects'
import { nameOfTile, sheetOfIsland, sheetsOf } from '../scene/sheets'
import { weightOf } from '../scene/states'
import { CLOTH } from '../colours'

export const SORTS = {
  file: 'as in the files',
  density: 'by density',
  points: 'by open points',
  name: 'by name',
} as const
export type Sort = keyof typeof SORTS

export const GROUPS = {
  none: 'one list',
  file: 'by file',
  sheet: 'by sheet',
  tile: 'by tile',
  material: 'by material',
} as const
export type Group = keyof typeof GROUPS

/** A line of the ledger: an object, an island of an open one, or the head of a group with its sums. */
export type Line =
  | { kind: 'group'; key: string; name: string; keys: string[]; islands: number; triangles: number }
  | {
      kind: 'object'
      key: string
      sheet: number
      object: ObjectRow
      colour: string
      open: boolean
      rules: string[]
      lies: string
    }
  | {
      kind: 'island'
      key: string
      sheet: number
      name: string
      faults: string[]
      density: number | null
      weight: number
      rules: string[]
      /** On which sheet and tile it lies, where there are several. */
      lies: string
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
  group: Group = 'none',
): Line[] {
  const objects = state?.objects ?? []
  const words = filter.toLowerCase()
  const having = new Set(faults.flatMap((f) => (f.kind === fault ? f.islands.map(([g, i]) => `${g}:${i}`) : [])))
  const concerned = (o: ObjectRow) => {
    return !fault || numbersOf(o).some((i) => having.has(`${o.file}:${i}`))
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
  const lies = liesOf(state, pieces)
  const lines: Line[] = []
  const places = state && group !== 'none' ? groupsOf(state, pieces, found, group) : null
  if (places) found.sort((a, b) => places.get(a)!.localeCompare(places.get(b)!, 'en', { numeric: true }))
  let last: string | null = null
  for (const o of found) {
    const place = places?.get(o)
    if (place !== undefined && place !== last) {
      const mine = found.filter((x) => places!.get(x) === place)
      lines.push({
        kind: 'group',
        key: `group ${place}`,
        name: place,
        keys: mine.map((x) => x.key),
        islands: mine.reduce((sum, x) => sum + x.islands, 0),
        triangles: mine.reduce((sum, x) => sum + x.triangles, 0),
      })
      last = place
    }
    const isOpen = open.has(o.key)
    lines.push({
      kind: 'object',
      key: o.key,
      sheet: o.sheets[0] ?? 0,
      object: o,
      rules: rules(o.key),
      lies: lies(o, numbersOf(o), o.sheets),
      colour: CLOTH[objects.indexOf(o) % CLOTH.length],
      open: isOpen,
    })
    if (!isOpen || !state) continue
    const piece = pieces.find((p) => p.file === o.file)
    for (const i of numbersOf(o)) {
      const key = `${o.file}:${i}`
      if (fault && !having.has(key)) continue
      const on = sheetOfIsland(state.settings, o.file, o.number, i)
      lines.push({
        kind: 'island',
        key,
        sheet: on,
        lies: lies(o, [i], [on]),
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

/** On which sheet and tile islands lie, in few words; empty where there is only one of each. */
function liesOf(
  state: State | null,
  pieces: Piece[],
): (o: ObjectRow, islands: readonly number[], sheets: readonly number[]) => string {
  const every = state ? sheetsOf(state.settings) : []
  const known = new Map(every.map((s) => [s.id, s]))
  if (every.length < 2 && every.every((s) => s.columns * s.rows < 2)) return () => ''
  const middle = new THREE.Vector2()
  return (o, islands, sheets) => {
    const piece = pieces.find((p) => p.file === o.file)
    if (!islands.length || !piece) return ''
    const here = sheets.map((n) => known.get(n)).filter((s) => s !== undefined)
    const tiled = here.some((s) => s.columns * s.rows > 1)
    const tiles = new Set(
      (tiled ? islands : []).map((i) => {
        const at = piece.box(i).getCenter(middle)
        return 1001 + Math.floor(at.x) + 10 * Math.floor(at.y)
      }),
    )
    const where = [...tiles].sort((a, b) => a - b)
    return [
      every.length > 1 && here.map((s) => s.name).join(', '),
      where.length > 2 ? `${where[0]} to ${where.at(-1)}` : where.join(', '),
    ]
      .filter(Boolean)
      .join(', ')
  }
}

/** What each object stands under, in words. */
function groupsOf(state: State, pieces: Piece[], objects: ObjectRow[], group: Group): Map<ObjectRow, string> {
  const files = new Map(state.files.map((f) => [f.id, f.name]))
  const sheets = new Map(sheetsOf(state.settings).map((s) => [s.id, s]))
  const several = sheets.size > 1
  const middle = new THREE.Vector2()
  const tile = (o: ObjectRow): string => {
    const piece = pieces.find((p) => p.file === o.file)
    const sheet = sheets.get(o.sheets[0])
    if (!o.islands || !piece || !sheet) return 'no UVs'
    const at = piece.box(o.first_island).getCenter(middle)
    const [column, row] = [Math.floor(at.x), Math.floor(at.y)]
    const inside = column >= 0 && row >= 0 && column < sheet.columns && row < sheet.rows
    const name = inside ? nameOfTile(sheet, 1001 + column + 10 * row) : 'beside the tiles'
    return several ? `${sheet.name}, ${name}` : name
  }
  const of: Record<Group, (o: ObjectRow) => string> = {
    none: () => '',
    file: (o) => files.get(o.file) ?? '',
    sheet: (o) => o.sheets.map((s) => sheets.get(s)?.name ?? '').join(', ') || 'no UVs',
    tile,
    material: (o) => o.materials.join(', ') || 'no material',
  }
  return new Map(objects.map((o) => [o, of[group](o)]))
}

/** Keys from one line to another, with those between them; heads of groups are left out. */
export function between(lines: Line[], from: string, to: string): string[] {
  const [a, b] = [from, to].map((k) => lines.findIndex((l) => l.key === k))
  if (a < 0 || b < 0) return [to]
  return lines
    .slice(Math.min(a, b), Math.max(a, b) + 1)
    .filter((l) => l.kind === 'object' || (l.kind === 'island' && lines[b].kind === 'island'))
    .map((l) => l.key)
}

/** The rules that are set on an object or island itself, in words. */
function rulesOf(state: State | null): (key: string) => string[] {
  const s = state?.settings
  const held = new Set(s?.held ?? [])
  const twins = new Set(s?.twins?.flat() ?? [])
  const bunch = new Map((s?.bunches ?? []).flatMap((b) => b.members.map((k) => [k, b.name] as const)))
  return (key) => {
    const turn = s?.rotations?.[key]
    const tile = s?.tile_of?.[key]
    const words = [
      tile !== undefined && (tile ? String(tile) : 'any tile'),
      held.has(key) && 'held',
      turn && (turn === 'none' ? 'upright' : `turns ${turn}`),
      bunch.get(key),
      twins.has(key) && 'twin',
    ]
    return words.filter((w): w is string => !!w)
  }
}
