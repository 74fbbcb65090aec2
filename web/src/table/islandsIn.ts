import * as THREE from 'three'
import { holds } from '../scene/flat'
import { ELSEWHERE, LEFT_OUT, SELECTED, type Piece } from '../scene/pieces'

type Island = [file: number, island: number]

/** Islands that lie on the table, where something holds for them. */
function those(pieces: Piece[], wanted: (p: Piece, i: number) => boolean): Island[] {
  const found: Island[] = []
  for (const p of pieces)
    for (let i = 0; i < p.islands; i++)
      if (!(p.mark(i) & (ELSEWHERE | LEFT_OUT)) && wanted(p, i)) found.push([p.file, i])
  return found
}

/** Islands whose boxes a box reaches. */
export function islandsIn(pieces: Piece[], box: THREE.Box2): Island[] {
  return those(pieces, (p, i) => box.intersectsBox(p.box(i)))
}

/** Islands whose middles lie inside a line drawn around them. */
export function islandsInside(pieces: Piece[], line: THREE.Vector2[]): Island[] {
  const middle = new THREE.Vector2()
  return those(pieces, (p, i) => holds(line, p.box(i).getCenter(middle)))
}

/** Whether a place is in the box of a selected island: what a drag is likely to take hold of. */
export function overSelected(pieces: Piece[], at: THREE.Vector2): boolean {
  for (const p of pieces)
    for (let i = 0; i < p.islands; i++) {
      const mark = p.mark(i)
      if (mark & SELECTED && !(mark & ELSEWHERE) && p.box(i).containsPoint(at)) return true
    }
  return false
}
