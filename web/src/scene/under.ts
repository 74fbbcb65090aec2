import * as THREE from 'three'
import { NO_ISLAND } from './geometry'
import { ELSEWHERE, LEFT_OUT, type Hit, type Piece } from './pieces'

/** The island under a point of the sheet. */
export function pickFlat(pieces: Piece[], u: number, v: number): Hit | null {
  const found = cornersUnder(pieces, u, v)
  if (!found) return null
  const [piece, [a]] = found
  return { file: piece.file, object: piece.objectOf[a], island: piece.data.island[a] }
}

/** Which islands that lie on the table can hold a point, by boxes with room for what the hand did to their UVs; null where none can. */
function nearTo(piece: Piece, u: number, v: number): Uint8Array | null {
  const near = new Uint8Array(piece.islands)
  const at = new THREE.Vector2(u, v)
  const size = new THREE.Vector2()
  let any = false
  for (let i = 0; i < near.length; i++) {
    if (piece.mark(i) & (LEFT_OUT | ELSEWHERE)) continue
    const box = piece.box(i)
    box.getSize(size)
    if (!box.expandByScalar(0.5 * Math.max(size.x, size.y)).containsPoint(at)) continue
    near[i] = 1
    any = true
  }
  return any ? near : null
}

type Under = [Piece, [number, number, number]]

/** The corners of the last triangle on the sheet that holds a point. */
export function cornersUnder(pieces: Piece[], u: number, v: number): Under | null {
  for (const found of eachUnder(pieces, u, v)) return found
  return null
}

/** The corners of all triangles that hold a point of the sheet, the last first; of each island one. */
export function allUnder(pieces: Piece[], u: number, v: number): Under[] {
  const seen = new Set<string>()
  return [...eachUnder(pieces, u, v)].filter(([piece, [a]]) => {
    const key = `${piece.file}:${piece.data.island[a]}`
    const first = !seen.has(key)
    seen.add(key)
    return first
  })
}

function* eachUnder(pieces: Piece[], u: number, v: number): Generator<Under> {
  const a = new THREE.Vector2()
  const b = new THREE.Vector2()
  const c = new THREE.Vector2()
  for (const piece of [...pieces].reverse()) {
    const index = piece.flat.index!.array
    const near = nearTo(piece, u, v)
    if (!near) continue
    for (let i = index.length - 3; i >= 0; i -= 3) {
      const island = piece.data.island[index[i]]
      if (island === NO_ISLAND || !near[island]) continue
      piece.placed(index[i], a)
      piece.placed(index[i + 1], b)
      piece.placed(index[i + 2], c)
      const d1 = (b.x - a.x) * (v - a.y) - (b.y - a.y) * (u - a.x)
      const d2 = (c.x - b.x) * (v - b.y) - (c.y - b.y) * (u - b.x)
      const d3 = (a.x - c.x) * (v - c.y) - (a.y - c.y) * (u - c.x)
      if ((d1 >= 0 && d2 >= 0 && d3 >= 0) || (d1 <= 0 && d2 <= 0 && d3 <= 0))
        yield [piece, [index[i], index[i + 1], index[i + 2]]]
    }
  }
}
