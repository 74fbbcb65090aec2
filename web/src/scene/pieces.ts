import * as THREE from 'three'
import { CLOTH } from '../colours'
import { NO_ISLAND, type FileGeometry } from './geometry'
import { COLOURS, vec } from '../colours'
import { thicknesses } from './outlines'

const WIDTH = 1024

/** Bits of an island's mark. */
export const SELECTED = 1
export const FLIPPED = 2
export const LEFT_OUT = 4
/** Lies on a sheet that is not shown. */
export const ELSEWHERE = 8

/**
 * Shader text that moves a UV by its island's similarity, from the file's table of transforms, and reads the island's
 * `state`: how many doublings its density is off its target (99: unknown), and its mark; and `texel`, the width of a texel of its
 * tile in UV, and `thick`, how thick it is there.
 */
export const PLACE = /* glsl */ `
  uniform highp sampler2D transforms;
  in float island;
  out vec2 state;
  float texel = 1.0;
  float thick = 1.0;
  vec4 row(int k) { return texelFetch(transforms, ivec2(k % ${WIDTH}, k / ${WIDTH}), 0); }
  vec2 placed(vec2 t) {
    if (island < 0.0) {
      state = vec2(99.0, 0.0);
      return t;
    }
    int k = int(island + 0.5) * 3;
    vec4 m = row(k);
    vec4 o = row(k + 1);
    texel = row(k + 2).x;
    thick = row(k + 2).y * length(m.xz);
    state = o.zw;
    return vec2(m.x * t.x + m.y * t.y, m.z * t.x + m.w * t.y) + o.xy;
  }
`

/** Shader text for the density picture: starved toward teal, lavish toward plum, plain cloth inside the band. */
export const DENSITY = /* glsl */ `
  uniform float band;
  bool has(vec2 s, int bit) { return (int(s.y + 0.5) & bit) != 0; }
  vec3 densityColour(float off) {
    vec3 plain = ${vec(COLOURS.even)};
    if (off > 90.0) return ${vec(COLOURS.unknown)};
    float beyond = clamp((abs(off) - band) / 2.0, 0.0, 1.0);
    if (abs(off) <= band) return plain;
    vec3 end = off < 0.0 ? ${vec(COLOURS.starvedDeep)} : ${vec(COLOURS.lavishDeep)};
    vec3 start = off < 0.0 ? ${vec(COLOURS.starvedPale)} : ${vec(COLOURS.lavishPale)};
    return mix(start, end, sqrt(beyond));
  }
`

/** A file on the graphics card: geometry for both views, the islands' transforms and states, the objects' looks. */
export class Piece {
  readonly geometry = new THREE.BufferGeometry()
  readonly flat = new THREE.BufferGeometry()
  readonly outline = new THREE.InstancedBufferGeometry()
  /** Triangles with the fault that is shown, and their edges. */
  readonly odd = new THREE.BufferGeometry()
  readonly oddEdges = new THREE.BufferGeometry()
  readonly transforms: THREE.DataTexture
  readonly looks: THREE.DataTexture
  readonly objectOf: Float32Array
  /** Object of each island: of several that share it, the first. */
  readonly objectOfIsland: Int32Array
  table: Float32Array
  /** The table as the server has it, and of which layout; what the hand moves is shown over it. */
  laid: Float32Array
  laidOf: number | null = null
  /** px of the map of each island: that of its tile. */
  readonly px: Float32Array
  private readonly boxes: Float32Array
  /** How thick each island is in UV as read. */
  private readonly thick: Float32Array

  constructor(
    readonly file: number,
    readonly data: FileGeometry,
    firstObject: number,
    /** What it was loaded for. */
    readonly key = '',
  ) {
    const { header, index, island: islands } = data
    const count = header.islands
    const vertices = data.position.length / 3
    this.objectOf = new Float32Array(vertices)
    this.objectOfIsland = new Int32Array(count).fill(-1)
    const island = new Float32Array(vertices)
    for (let v = 0; v < vertices; v++) island[v] = islands[v] === NO_ISLAND ? -1 : islands[v]
    header.objects.forEach((o, n) => {
      for (let i = 3 * o.index[0]; i < 3 * (o.index[0] + o.index[1]); i++) this.objectOf[index[i]] = n
      for (let i = o.islands[0]; i < o.islands[1]; i++) if (this.objectOfIsland[i] < 0) this.objectOfIsland[i] = n
    })
    const shared = {
      position: new THREE.BufferAttribute(data.position, 3),
      uv: new THREE.BufferAttribute(data.uv, 2),
      island: new THREE.BufferAttribute(island, 1),
      object: new THREE.BufferAttribute(this.objectOf, 1),
      paint: new THREE.BufferAttribute(data.paint ?? data.uv, 2),
    }
    for (const g of [this.geometry, this.flat]) for (const [name, a] of Object.entries(shared)) g.setAttribute(name, a)
    this.geometry.setIndex(new THREE.BufferAttribute(index, 1))
    for (const o of header.objects) {
      let at = 3 * o.index[0]
      for (const [material, triangles] of o.groups ?? []) {
        this.geometry.addGroup(at, 3 * triangles, material + 1)
        at += 3 * triangles
      }
    }
    for (const g of [this.odd, this.oddEdges]) for (const [name, a] of Object.entries(shared)) g.setAttribute(name, a)
    this.flat.setIndex(new THREE.BufferAttribute(flatIndex(data), 1))
    outlineOf(this.outline, data, island, this.objectOf)
    const rows = Math.max(1, Math.ceil((3 * count) / WIDTH))
    this.transforms = texture(new Float32Array(WIDTH * rows * 4), WIDTH, rows, THREE.FloatType)
    this.table = new Float32Array(5 * count)
    this.px = new Float32Array(count).fill(2048)
    this.looks = texture(looks(header.objects.length, firstObject), header.objects.length, 1, THREE.UnsignedByteType)
    this.boxes = islandBoxes(data)
    this.thick = thicknesses(data)
    const identity = new Float32Array(5 * count)
    for (let i = 0; i < count; i++) identity.set([0, 1, 1, 0, 0], 5 * i)
    this.laid = identity
    this.setTable(identity)
    this.showOdd(0)
  }

  /** Show the triangles that have one of these things wrong; returns how many. */
  showOdd(bits: number): number {
    const { odd } = this.data
    const faces: number[] = []
    const edges: number[] = []
    for (let k = 0; odd && k < odd.length; k += 4) {
      if (!(odd[k + 3] & bits) || this.hidden(this.objectOf[odd[k]])) continue
      const [a, b, c] = [odd[k], odd[k + 1], odd[k + 2]]
      faces.push(a, b, c)
      edges.push(a, b, b, c, c, a)
    }
    this.odd.setIndex(faces)
    this.oddEdges.setIndex(edges)
    return faces.length / 3
  }

  get islands(): number {
    return this.data.header.islands
  }

  /** Whether an object is not shown on the model. */
  hidden(object: number): boolean {
    return (this.looks.image.data as Uint8Array)[4 * object + 3] === 0
  }

  /** Show some objects on the model only; the table shows all. */
  setHidden(hidden: (object: number) => boolean): void {
    const out = this.looks.image.data as Uint8Array
    for (let n = 0; n < out.length / 4; n++) out[4 * n + 3] = hidden(n) ? 0 : 255
    this.looks.needsUpdate = true
  }

  /** Give the islands another layout. */
  setTable(table: Float32Array): void {
    if (table.length !== this.table.length) return
    this.table = table
    const out = this.transforms.image.data as Float32Array
    for (let i = 0; i < table.length / 5; i++) {
      const [angle, mirror, scale, x, y] = table.subarray(5 * i, 5 * i + 5)
      const c = scale * Math.cos(angle)
      const s = scale * Math.sin(angle)
      out.set([c * mirror, -s, s * mirror, c, x, y], 12 * i)
    }
    this.transforms.needsUpdate = true
  }

  /** Show an island so many tiles to the right of where it lies; its layout stays. */
  showAside(i: number, columns: number): void {
    const out = this.transforms.image.data as Float32Array
    out[12 * i + 4] += columns
    this.transforms.needsUpdate = true
  }

  /** Density of an island at the resolution of its tile under the present layout, or null where it has none. */
  density(i: number): number | null {
    const uv = this.data.area?.[2 * i] ?? 0
    const world = this.data.area?.[2 * i + 1] ?? 0
    return uv > 0 && world > 0 ? this.px[i] * this.table[5 * i + 2] * Math.sqrt(uv / world) : null
  }

  /** Set each island's state: doublings off its target, and mark. */
  setStates(state: (island: number) => [off: number, mark: number]): void {
    const out = this.transforms.image.data as Float32Array
    for (let i = 0; i < this.islands; i++) {
      out.set(state(i), 12 * i + 6)
      out.set([1 / this.px[i], this.thick[i]], 12 * i + 8)
    }
    this.transforms.needsUpdate = true
  }

  /** The mark that an island has now. */
  mark(i: number): number {
    return (this.transforms.image.data as Float32Array)[12 * i + 7]
  }

  /** A UV of a vertex as the layout places it. */
  placed(v: number, out: THREE.Vector2): THREE.Vector2 {
    const { uv, island } = this.data
    const i = island[v]
    if (i === NO_ISLAND) return out.set(uv[2 * v], uv[2 * v + 1])
    const t = this.transforms.image.data as Float32Array
    const k = 12 * i
    return out.set(
      t[k] * uv[2 * v] + t[k + 1] * uv[2 * v + 1] + t[k + 4],
      t[k + 2] * uv[2 * v] + t[k + 3] * uv[2 * v + 1] + t[k + 5],
    )
  }

  /** The UV of an island that its layout places there. */
  unplaced(i: number, at: THREE.Vector2): THREE.Vector2 {
    const t = this.transforms.image.data as Float32Array
    const k = 12 * i
    const [x, y] = [at.x - t[k + 4], at.y - t[k + 5]]
    const d = t[k] * t[k + 3] - t[k + 1] * t[k + 2]
    return new THREE.Vector2((t[k + 3] * x - t[k + 1] * y) / d, (t[k] * y - t[k + 2] * x) / d)
  }

  /** The box that holds an island's box as read, moved; a little larger than its own when it is turned. */
  box(i: number): THREE.Box2 {
    const t = this.transforms.image.data as Float32Array
    const [k, b] = [12 * i, 4 * i]
    const box = new THREE.Box2()
    const p = new THREE.Vector2()
    for (const u of [this.boxes[b], this.boxes[b + 2]])
      for (const v of [this.boxes[b + 1], this.boxes[b + 3]])
        box.expandByPoint(p.set(t[k] * u + t[k + 1] * v + t[k + 4], t[k + 2] * u + t[k + 3] * v + t[k + 5]))
    return box
  }

  dispose(): void {
    const all = [this.geometry, this.outline, this.flat, this.odd, this.oddEdges, this.transforms, this.looks]
    for (const g of all) g.dispose()
  }
}

function flatIndex(data: FileGeometry): Uint32Array {
  const ranges = data.header.objects.filter((o) => o.table)
  const flat = new Uint32Array(ranges.reduce((n, o) => n + 3 * o.index[1], 0))
  let at = 0
  for (const o of ranges) {
    flat.set(data.index.subarray(3 * o.index[0], 3 * (o.index[0] + o.index[1])), at)
    at += 3 * o.index[1]
  }
  return flat
}

/** The edges between faces of a piece on the sheet, each once for every face; those inside polygons are left out. */
export function wiresOf(p: Piece): THREE.BufferGeometry {
  const { header, index, inside } = p.data
  const out: number[] = []
  for (const o of header.objects)
    for (let t = o.index[0]; o.table && t < o.index[0] + o.index[1]; t++)
      for (let k = 0; k < 3; k++)
        if (!((inside?.[t] ?? 0) & (1 << k))) out.push(index[3 * t + k], index[3 * t + ((k + 1) % 3)])
  const g = new THREE.BufferGeometry()
  for (const [name, a] of Object.entries(p.flat.attributes)) g.setAttribute(name, a)
  return g.setIndex(out)
}

/** A quad for every outline edge, widened in the shader. */
function outlineOf(g: THREE.InstancedBufferGeometry, data: FileGeometry, island: Float32Array, object: Float32Array) {
  const n = data.edge.length / 2
  const owner = new Float32Array(2 * n)
  for (let e = 0; e < n; e++) owner.set([island[data.edge[2 * e]], object[data.edge[2 * e]]], 2 * e)
  g.instanceCount = n
  g.setAttribute('position', new THREE.BufferAttribute(new Float32Array([-1, 0, 0, 1, 0, 0, 1, 1, 0, -1, 1, 0]), 3))
  g.setIndex([0, 1, 2, 0, 2, 3])
  g.setAttribute('ends', new THREE.InstancedBufferAttribute(endsOf(data, new Float32Array(4 * n)), 4))
  const interleaved = new THREE.InstancedInterleavedBuffer(owner, 2)
  g.setAttribute('island', new THREE.InterleavedBufferAttribute(interleaved, 1, 0))
  g.setAttribute('object', new THREE.InterleavedBufferAttribute(interleaved, 1, 1))
}

/** Where the outline's edges run, by the UVs as they are now. */
function endsOf({ edge, uv }: FileGeometry, out: Float32Array): Float32Array {
  for (let k = 0; k < edge.length; k++) {
    out[2 * k] = uv[2 * edge[k]]
    out[2 * k + 1] = uv[2 * edge[k] + 1]
  }
  return out
}

/** Draw the outline of a piece by its UVs as they are now. */
export function refreshOutline(p: Piece): void {
  const ends = p.outline.getAttribute('ends')
  endsOf(p.data, ends.array as Float32Array)
  ends.needsUpdate = true
}

function looks(objects: number, first: number): Uint8Array {
  const out = new Uint8Array(4 * objects)
  for (let n = 0; n < objects; n++) {
    const hex = parseInt(CLOTH[(first + n) % CLOTH.length].slice(1), 16)
    out.set([(hex >> 16) & 255, (hex >> 8) & 255, hex & 255, 255], 4 * n)
  }
  return out
}

function islandBoxes({ header, island, uv }: FileGeometry): Float32Array {
  const out = new Float32Array(4 * header.islands)
  for (let i = 0; i < header.islands; i++) out.set([Infinity, Infinity, -Infinity, -Infinity], 4 * i)
  for (let v = 0; v < island.length; v++) {
    if (island[v] === NO_ISLAND) continue
    const b = 4 * island[v]
    out[b] = Math.min(out[b], uv[2 * v])
    out[b + 1] = Math.min(out[b + 1], uv[2 * v + 1])
    out[b + 2] = Math.max(out[b + 2], uv[2 * v])
    out[b + 3] = Math.max(out[b + 3], uv[2 * v + 1])
  }
  return out
}

function texture(data: Float32Array | Uint8Array, width: number, height: number, type: THREE.TextureDataType) {
  const t = new THREE.DataTexture(data, width, height, THREE.RGBAFormat, type)
  t.needsUpdate = true
  return t
}

export interface Hit {
  file: number
  object: number
  island: number | null
}
