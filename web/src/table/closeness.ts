import * as THREE from 'three'
import { boxOf, segments } from '../scene/outlines'
import type { Piece } from '../scene/pieces'

/** Where two islands come too near to each other, and how many px are between them. */
export interface Close {
  at: [u: number, v: number]
  px: number
}

interface Lying {
  piece: Piece
  island: number
  box: THREE.Box2
  lines: Float64Array | null
}

const PAIRS = 2e6 // boxes that are compared for one picture
const TESTS = 3e6 // pairs of edges that are compared for one picture

/** What islands that are dragged come too near to; the others stay where they are. */
export class Neighbours {
  private readonly mine: [Piece, number][] = []
  private readonly others: Lying[] = []

  constructor(boxes: Map<string, THREE.Box2>, pieces: Piece[], dragged: (p: Piece, i: number) => boolean) {
    for (const p of pieces)
      for (let i = 0; i < p.islands; i++) {
        const box = boxes.get(`${p.file}:${i}`)
        if (!box) continue
        if (dragged(p, i)) this.mine.push([p, i])
        else this.others.push({ piece: p, island: i, box, lines: null })
      }
  }

  /** The places where less than `gap` px are left; none where there is too much to compare while something is dragged. */
  find(gap: number): Close[] {
    if (!(gap > 0) || this.mine.length * this.others.length > PAIRS) return []
    const out: Close[] = []
    let left = TESTS
    for (const [p, i] of this.mine) {
      const lines = segments(p, i)
      const box = boxOf(lines)
      for (const o of this.others) {
        const reach = gap / o.piece.px[o.island]
        if (!box.clone().expandByScalar(reach).intersectsBox(o.box)) continue
        o.lines ??= segments(o.piece, o.island)
        const near = within(lines, o.box, reach)
        const far = within(o.lines, box, reach)
        left -= (near.length * far.length) / 16
        if (left < 0) return []
        const found = nearest(near, far)
        if (found && found.far < reach * (1 - 1e-6)) out.push({ at: found.at, px: found.far * o.piece.px[o.island] })
      }
    }
    return out
  }
}

/** Segments whose boxes come within reach of a box. */
function within(s: Float64Array, box: THREE.Box2, reach: number): Float64Array {
  const out: number[] = []
  for (let k = 0; k < s.length; k += 4) {
    const [a, b, c, d] = [s[k], s[k + 1], s[k + 2], s[k + 3]]
    if (Math.max(a, c) < box.min.x - reach || Math.min(a, c) > box.max.x + reach) continue
    if (Math.max(b, d) < box.min.y - reach || Math.min(b, d) > box.max.y + reach) continue
    out.push(a, b, c, d)
  }
  return Float64Array.from(out)
}

/** The least distance between two sets of segments, and the middle of the way there; 0 where they cross. */
function nearest(s: Float64Array, t: Float64Array): { far: number; at: [number, number] } | null {
  let best: { far: number; at: [number, number] } | null = null
  const take = (x: number, y: number, k: Float64Array, m: number) => {
    const [dx, dy] = [k[m + 2] - k[m], k[m + 3] - k[m + 1]]
    const long = dx * dx + dy * dy
    const part = long > 0 ? Math.min(1, Math.max(0, ((x - k[m]) * dx + (y - k[m + 1]) * dy) / long)) : 0
    const [u, v] = [k[m] + part * dx, k[m + 1] + part * dy]
    const far = Math.hypot(x - u, y - v)
    if (!best || far < best.far) best = { far, at: [(x + u) / 2, (y + v) / 2] }
  }
  for (let i = 0; i < s.length; i += 4)
    for (let j = 0; j < t.length; j += 4) {
      const cross = crossing(s, i, t, j)
      if (cross) return { far: 0, at: cross }
      take(s[i], s[i + 1], t, j)
      take(s[i + 2], s[i + 3], t, j)
      take(t[j], t[j + 1], s, i)
      take(t[j + 2], t[j + 3], s, i)
    }
  return best
}

/** Where two segments cross; null where they do not. */
function crossing(s: Float64Array, i: number, t: Float64Array, j: number): [number, number] | null {
  const [ax, ay] = [s[i + 2] - s[i], s[i + 3] - s[i + 1]]
  const [bx, by] = [t[j + 2] - t[j], t[j + 3] - t[j + 1]]
  const d = ax * by - ay * bx
  if (d === 0) return null
  const [x, y] = [t[j] - s[i], t[j + 1] - s[i + 1]]
  const p = (x * by - y * bx) / d
  const q = (x * ay - y * ax) / d
  return p >= 0 && p <= 1 && q >= 0 && q <= 1 ? [s[i] + p * ax, s[i + 1] + p * ay] : null
}
