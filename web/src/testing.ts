import * as THREE from 'three'
import type { Fault, ObjectRow, Settings, State } from './api/client'
import { NO_ISLAND, type FileGeometry } from './scene/geometry'
import { Piece } from './scene/pieces'

/** Loose unit squares of a file, each an island of its own object, at these places in UV; each covers `world` square metres. */
export function squares(file: number, places: [u: number, v: number, side: number][], world = 1): Piece {
  const uv: number[] = []
  const index: number[] = []
  const island: number[] = []
  const edge: number[] = []
  places.forEach(([u, v, s], k) => {
    uv.push(u, v, u + s, v, u + s, v + s, u, v + s)
    island.push(k, k, k, k)
    edge.push(...[0, 1, 1, 2, 2, 3, 3, 0].map((i) => 4 * k + i))
    index.push(...[0, 1, 2, 0, 2, 3].map((i) => 4 * k + i))
  })
  // One vertex without UVs: it belongs to no island.
  uv.push(0, 0)
  island.push(NO_ISLAND)
  const data: FileGeometry = {
    header: {
      objects: places.map((_, k) => ({ index: [2 * k, 2], edge: [4 * k, 4], table: true, islands: [k, k + 1] })),
      islands: places.length,
      arrays: [],
    },
    position: new Float32Array(island.length * 3),
    uv: new Float32Array(uv),
    island: new Uint32Array(island),
    index: new Uint32Array(index),
    edge: new Uint32Array(edge),
    area: new Float32Array(places.flatMap(([, , s]) => [s * s, world])),
  }
  return new Piece(file, data, 0)
}

export const SETTINGS = {
  map_px: 1000,
  padding_px: 8,
  margin_px: 4,
  rotate: '90',
  hold: true,
  density: 100,
  keep_ratios: false,
  ratios: 'uv',
  fill: 'common',
  mirror: false,
  texel_grid: false,
  grid_percent: 1,
  seconds: 10,
  passes: null,
  seed: 0,
} as Settings

/** A row of the ledger for an object of one island. */
export function row(file: number, number: number, name: string, more: Partial<ObjectRow> = {}): ObjectRow {
  return {
    key: `${file}/${number}`,
    file,
    number,
    name,
    path: name,
    materials: ['wood'],
    triangles: 2,
    bare: 0,
    islands: 1,
    first_island: number,
    detail_of: '',
    channels: [0],
    world_area: 1,
    left_out: false,
    shares: [],
    weight: 1,
    points: 0,
    sheets: [1],
    density: { median: 100, least: 100, greatest: 100 },
    ...more,
  }
}

export function stateOf(objects: ObjectRow[], settings: Partial<Settings> = {}): State {
  return {
    id: 1,
    name: 'Test',
    snapshot: 1,
    author: '',
    may_change: true,
    undo: null,
    redo: null,
    settings: { ...SETTINGS, ...settings },
    channels: [0],
    files: [],
    objects,
    layout: 1,
    figures: null,
    sheets: [],
    packed: false,
    tries: [],
    job: null,
  }
}

export function faultOf(kind: string, islands: [number, number][], more: Partial<Fault> = {}): Fault {
  return {
    kind,
    sheet: 1,
    heavy: 2,
    count: islands.length,
    title: kind,
    detail: '',
    remedy: '',
    repair: '',
    islands,
    places: [],
    pairs: [],
    ...more,
  }
}

export const point = (x: number, y: number) => new THREE.Vector2(x, y)
