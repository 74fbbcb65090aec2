import { answered, binary } from '../api/client'

export const NO_ISLAND = 0xffffffff

interface Header {
  objects: {
    index: [number, number]
    edge: [number, number]
    table: boolean
    islands: [number, number]
    /** Material and how many triangles in a row have it. */
    groups?: [number, number][]
  }[]
  islands: number
  arrays: [string, string, number, number][]
}

/** The geometry of a file, as the server's `geometry.py` lays it out. */
export interface FileGeometry {
  header: Header
  position: Float32Array
  uv: Float32Array
  island: Uint32Array
  index: Uint32Array
  edge: Uint32Array
  /** UV area and world area of each island. */
  area?: Float32Array
  /** Triangles with something wrong: three vertices and what, see `ODD`. */
  odd?: Uint32Array
  /** Bit k for each triangle whose side k runs inside a polygon of the file. */
  inside?: Uint32Array
  /** UVs that the base colour map reads, where that is another channel. */
  paint?: Float32Array
}

/** What may be wrong with a triangle, by kind of fault. */
export const ODD: Record<string, number> = {
  turned: 1,
  zero_uv: 2,
  zero_world: 4,
  crowded: 8,
  against: 16,
  no_uv: 32,
}

export async function loadGeometry(file: number, channel: number): Promise<FileGeometry> {
  const data = await binary(`/api/files/${file}/channels/${channel}/geometry`)
  if (!data) throw new Error('The geometry of a file could not be loaded.')
  const size = new DataView(data).getUint32(0, true)
  const header = JSON.parse(new TextDecoder().decode(new Uint8Array(data, 4, size))) as Header
  const out: Record<string, Float32Array | Uint32Array> = {}
  let at = 4 + size
  for (const [name, type, items, width] of header.arrays) {
    out[name] =
      type === 'float32' ? new Float32Array(data, at, items * width) : new Uint32Array(data, at, items * width)
    at += 4 * items * width
  }
  return { header, ...(out as unknown as Omit<FileGeometry, 'header'>) }
}

/** Similarities of islands, five numbers each: angle, mirror, scale, offset u, offset v. */
export async function loadTable(path: string): Promise<Float32Array | null> {
  const data = await binary(path)
  return data ? new Float32Array(data) : null
}

/** The table of a layout; only the rows that differ come over the line where the one of layout `since` is `known`. */
export async function loadLayout(
  layout: number,
  file: number,
  known?: Float32Array,
  since?: number | null,
): Promise<Float32Array | null> {
  const path = `/api/layouts/${layout}/files/${file}`
  if (!known || !since) return loadTable(path)
  if (since === layout) return known
  const response = await answered(`${path}?since=${since}`)
  if (response.status !== 200) return null
  const data = await response.arrayBuffer()
  return response.headers.get('X-Rows') === 'changed' ? withRows(known, data) : new Float32Array(data)
}

/** A table with changed rows: their number, the islands, the rows. */
export function withRows(known: Float32Array, data: ArrayBuffer): Float32Array {
  const count = new DataView(data).getUint32(0, true)
  const islands = new Uint32Array(data, 4, count)
  const rows = new Float32Array(data, 4 + 4 * count, 5 * count)
  const table = known.slice()
  islands.forEach((i, k) => table.set(rows.subarray(5 * k, 5 * k + 5), 5 * i))
  return table
}
