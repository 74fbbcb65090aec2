import * as THREE from 'three'
import { CLOTH } from '../theme'
import { NO_ISLAND, type FileGeometry } from './geometry'

const WIDTH = 1024

/** Shader text that moves a UV by its island's similarity, from the file's table of transforms. */
export const PLACE = /* glsl */ `
  uniform highp sampler2D transforms;
  in float island;
  vec2 placed(vec2 t) {
    if (island < 0.0) return t;
    int k = int(island + 0.5) * 2;
    vec4 m = texelFetch(transforms, ivec2(k % ${WIDTH}, k / ${WIDTH}), 0);
    vec4 o = texelFetch(transforms, ivec2((k + 1) % ${WIDTH}, (k + 1) / ${WIDTH}), 0);
    return vec2(m.x * t.x + m.y * t.y, m.z * t.x + m.w * t.y) + o.xy;
  }
`

/** A file on the graphics card: one geometry for both views, the islands' transforms, the objects' looks. */
export class Piece {
  readonly geometry = new THREE.BufferGeometry()
  readonly edges = new THREE.BufferGeometry()
  readonly flat = new THREE.BufferGeometry()
  readonly transforms: THREE.DataTexture
  readonly looks: THREE.DataTexture
  readonly objectOf: Float32Array
  table: Float32Array

  constructor(
    readonly file: number,
    readonly data: FileGeometry,
    firstObject: number,
  ) {
    const count = data.header.islands
    const vertices = data.position.length / 3
    this.objectOf = new Float32Array(vertices)
    const island = new Float32Array(vertices)
    for (let v = 0; v < vertices; v++) island[v] = data.island[v] === NO_ISLAND ? -1 : data.island[v]
    data.header.objects.forEach((o, n) => {
      for (let i = 3 * o.index[0]; i < 3 * (o.index[0] + o.index[1]); i++) this.objectOf[data.index[i]] = n
    })
    const shared = {
      position: new THREE.BufferAttribute(data.position, 3),
      uv: new THREE.BufferAttribute(data.uv, 2),
      island: new THREE.BufferAttribute(island, 1),
      object: new THREE.BufferAttribute(this.objectOf, 1),
    }
    for (const g of [this.geometry, this.edges, this.flat])
      for (const [name, a] of Object.entries(shared)) g.setAttribute(name, a)
    this.geometry.setIndex(new THREE.BufferAttribute(data.index, 1))
    this.edges.setIndex(new THREE.BufferAttribute(data.edge, 1))
    const ranges = data.header.objects.filter((o) => o.table)
    const flat = new Uint32Array(ranges.reduce((n, o) => n + 3 * o.index[1], 0))
    let at = 0
    for (const o of ranges) {
      flat.set(data.index.subarray(3 * o.index[0], 3 * (o.index[0] + o.index[1])), at)
      at += 3 * o.index[1]
    }
    this.flat.setIndex(new THREE.BufferAttribute(flat, 1))
    const rows = Math.max(1, Math.ceil((2 * count) / WIDTH))
    this.transforms = texture(new Float32Array(WIDTH * rows * 4), WIDTH, rows, THREE.FloatType)
    this.table = new Float32Array(5 * count)
    const objects = data.header.objects.length
    const looks = new Uint8Array(4 * objects)
    for (let n = 0; n < objects; n++) {
      const c = new THREE.Color(CLOTH[(firstObject + n) % CLOTH.length])
      c.getRGB({ r: 0, g: 0, b: 0 } as THREE.RGB, THREE.SRGBColorSpace)
      const hex = c.getHex(THREE.SRGBColorSpace)
      looks.set([(hex >> 16) & 255, (hex >> 8) & 255, hex & 255, 0], 4 * n)
    }
    this.looks = texture(looks, objects, 1, THREE.UnsignedByteType)
    const identity = new Float32Array(5 * count)
    for (let i = 0; i < count; i++) identity.set([0, 1, 1, 0, 0], 5 * i)
    this.setTable(identity)
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
      out.set([c * mirror, -s, s * mirror, c, x, y, 0, 0], 8 * i)
    }
    this.transforms.needsUpdate = true
  }

  /** A UV of a vertex as the layout places it. */
  placed(v: number, out: THREE.Vector2): THREE.Vector2 {
    const { uv, island } = this.data
    const i = island[v]
    if (i === NO_ISLAND) return out.set(uv[2 * v], uv[2 * v + 1])
    const t = this.transforms.image.data as Float32Array
    const k = 8 * i
    return out.set(
      t[k] * uv[2 * v] + t[k + 1] * uv[2 * v + 1] + t[k + 4],
      t[k + 2] * uv[2 * v] + t[k + 3] * uv[2 * v + 1] + t[k + 5],
    )
  }

  /** Mark objects as selected (255), left out (128), or plain (0). */
  setMarks(mark: (object: number) => number): void {
    const looks = this.looks.image.data as Uint8Array
    for (let n = 0; n < looks.length / 4; n++) looks[4 * n + 3] = mark(n)
    this.looks.needsUpdate = true
  }

  dispose(): void {
    for (const g of [this.geometry, this.edges, this.flat, this.transforms, this.looks]) g.dispose()
  }
}

function texture(data: Float32Array | Uint8Array, width: number, height: number, type: THREE.TextureDataType) {
  const t = new THREE.DataTexture(data, width, height, THREE.RGBAFormat, type)
  t.needsUpdate = true
  return t
}

/** The object under a point of the sheet: the last triangle that holds it. */
export function pickFlat(pieces: Piece[], u: number, v: number): { file: number; object: number } | null {
  const a = new THREE.Vector2()
  const b = new THREE.Vector2()
  const c = new THREE.Vector2()
  for (const piece of pieces) {
    const index = piece.flat.index!.array
    for (let i = 0; i < index.length; i += 3) {
      if (piece.data.island[index[i]] === NO_ISLAND) continue
      piece.placed(index[i], a)
      piece.placed(index[i + 1], b)
      piece.placed(index[i + 2], c)
      const d1 = (b.x - a.x) * (v - a.y) - (b.y - a.y) * (u - a.x)
      const d2 = (c.x - b.x) * (v - b.y) - (c.y - b.y) * (u - b.x)
      const d3 = (a.x - c.x) * (v - c.y) - (a.y - c.y) * (u - c.x)
      if ((d1 >= 0 && d2 >= 0 && d3 >= 0) || (d1 <= 0 && d2 <= 0 && d3 <= 0))
        return { file: piece.file, object: piece.objectOf[index[i]] }
    }
  }
  return null
}
