import type { Fault, State } from '../api/client'
import { numbersOf } from './objects'
import { ELSEWHERE, FLIPPED, LEFT_OUT, SELECTED, type Piece } from './pieces'
import { flatOf, placeOf, sheetOfIsland, sheetsOf, type Flat } from './sheets'

export type Keys = Set<string>

/** The density that islands of a sheet are compared with: the one that is held, or its median as it is. */
export function target(state: State, sheet: number): number | null {
  const flat = flatOf(state.settings, sheet)
  if (flat.hold) return flat.density
  const own = state.sheets.find((s) => s.id === flat.sheet.id)?.figures?.density
  return own ?? state.figures?.density ?? null
}

/** Give every island the resolution of the tile that it lies in. */
export function resolve(pieces: Piece[], state: State): void {
  const flats = new Map<number, Flat>(sheetsOf(state.settings).map((s) => [s.id, flatOf(state.settings, s.id)]))
  for (const p of pieces)
    for (let i = 0; i < p.islands; i++) {
      const flat = flats.get(sheetOfIsland(state.settings, p.file, p.objectOfIsland[i], i))!
      p.px[i] = flat.map_px
      for (const [tile, px] of Object.entries(flat.sheet.tile_px ?? {})) {
        const box = p.box(i)
        const [column, row] = placeOf(Number(tile))
        const u = Math.floor((box.min.x + box.max.x) / 2)
        const v = Math.floor((box.min.y + box.max.y) / 2)
        if (u === column && v === row) p.px[i] = px
      }
    }
}

/** How far from the target counts as inside the band, in doublings. */
export function bandOf(state: State): number {
  return Math.log2(1 + (state.settings.band ?? 10) / 100)
}

/** Islands of each file that the keys of objects and islands mean. */
export function islandsOf(state: State, keys: Keys): Record<string, number[]> {
  const found: Record<string, Set<number>> = {}
  for (const o of state.objects) {
    if (!keys.has(o.key)) continue
    const mine = (found[o.file] ??= new Set())
    for (const i of numbersOf(o)) mine.add(i)
  }
  for (const k of keys) {
    const [file, island] = k.split(':')
    if (island !== undefined) (found[file] ??= new Set()).add(Number(island))
  }
  return Object.fromEntries(Object.entries(found).map(([file, islands]) => [file, [...islands]]))
}

/** The weight of an island: its own, or its object's. */
export function weightOf(state: State, file: number, object: number, island: number): number {
  const weights = state.settings.weights ?? {}
  return weights[`${file}:${island}`] ?? weights[`${file}/${object}`] ?? 1
}

/** Give every island its state on the graphics card: how far its density is off, and its mark. */
export function paint(pieces: Piece[], state: State, faults: Fault[], selection: Keys, sheet: number): void {
  const chosen = islandsOf(state, selection)
  const left = new Set(state.objects.filter((o) => o.left_out).map((o) => o.key))
  const mirrored = faults.flatMap((f) => (f.kind === 'flipped' ? f.islands : []))
  const targets = new Map(sheetsOf(state.settings).map((s) => [s.id, target(state, s.id)]))
  const shown = flatOf(state.settings, sheet).sheet.id
  resolve(pieces, state)
  for (const p of pieces) {
    const selected = new Set(chosen[p.file] ?? [])
    const flipped = new Set(mirrored.filter(([file]) => file === p.file).map(([, i]) => i))
    p.setStates((i) => {
      const object = p.objectOfIsland[i]
      const density = p.density(i)
      const on = sheetOfIsland(state.settings, p.file, object, i)
      const wanted = targets.get(on)
      const off = density && wanted ? Math.log2(density / (wanted * weightOf(state, p.file, object, i))) : 99
      const mark =
        (selected.has(i) ? SELECTED : 0) +
        (flipped.has(i) ? FLIPPED : 0) +
        (left.has(`${p.file}/${object}`) ? LEFT_OUT : 0) +
        (on === shown ? 0 : ELSEWHERE)
      return [off, mark]
    })
  }
}

export interface Reading {
  count: number
  median: number
  least: number
  greatest: number
  mean: number
}

/** Densities of the islands that the keys mean (all where there are none): median and mean by surface area. */
export function readDensity(pieces: Piece[], state: State, keys: Keys): Reading | null {
  const chosen = keys.size ? islandsOf(state, keys) : null
  const found: [density: number, world: number][] = []
  for (const p of pieces) {
    const list = chosen ? (chosen[p.file] ?? []) : Array.from({ length: p.islands }, (_, i) => i)
    for (const i of list) {
      const d = p.density(i)
      if (d) found.push([d, p.data.area![2 * i + 1]])
    }
  }
  if (!found.length) return null
  found.sort((a, b) => a[0] - b[0])
  const world = found.reduce((n, f) => n + f[1], 0)
  let sum = 0
  const median = found.find((f) => (sum += f[1]) >= world / 2)![0]
  const mean = Math.sqrt(found.reduce((n, f) => n + f[0] ** 2 * f[1], 0) / world)
  return { count: found.length, median, least: found[0][0], greatest: found[found.length - 1][0], mean }
}

/** Texels of the islands by how many doublings their density is off the target: [from -4 to 4, in quarters]. */
export function histogram(pieces: Piece[], state: State): number[] {
  const bins = new Array<number>(33).fill(0)
  const targets = new Map(sheetsOf(state.settings).map((s) => [s.id, target(state, s.id)]))
  for (const p of pieces)
    for (let i = 0; i < p.islands; i++) {
      const d = p.density(i)
      const wanted = targets.get(sheetOfIsland(state.settings, p.file, p.objectOfIsland[i], i))
      if (!d || !wanted) continue
      const off = Math.log2(d / (wanted * weightOf(state, p.file, p.objectOfIsland[i], i)))
      bins[Math.min(32, Math.max(0, Math.round(off * 4) + 16))] += d * d * p.data.area![2 * i + 1]
    }
  return bins
}
