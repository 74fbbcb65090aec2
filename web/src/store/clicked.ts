import type * as THREE from 'three'
import { crossed, type How, type Taken } from '../scene/flat'
import type { Caught } from '../scene/area'
import { useQuilt } from '.'

/** A click on the model or the table, by what clicks pick. */
export function clicked({ hit, edge, faces, point }: Taken, { add, way, twice, at }: How): void {
  const q = useQuilt.getState()
  if (q.picks === 'brush') return
  if (q.picks === 'measure') return at && q.measure(at)
  if (q.picks === 'points') {
    if (!point) return add || way ? undefined : q.pickNothing()
    if (way && q.points.size) return void q.pickWay(point)
    return q.pickPoints([point], add)
  }
  if (q.picks === 'edges' || q.picks === 'faces') {
    if (q.picks === 'edges' ? !edge : !faces.length) return add || way ? undefined : q.pickNothing()
    if (twice && edge) return void q.pickMore(q.picks === 'edges' ? 'loop' : 'bend', edge, add)
    if (way && edge && q.picks === 'edges' && q.edges.size) return void q.pickMore('path', edge, true)
    if (q.picks === 'edges' && edge) q.pickEdges([edge], add)
    else q.pickFaces(faces, add || way)
    return
  }
  const island = hit && q.picks === 'islands' && hit.island !== null
  q.select(hit ? [island ? `${hit.file}:${hit.island}` : `${hit.file}/${hit.object}`] : [], add)
}

/** What was drawn around on the model, by what clicks pick. */
export function caught({ edges, faces, points, islands, objects }: Caught, add: boolean): void {
  const q = useQuilt.getState()
  if (q.picks === 'edges') q.pickEdges(edges, add)
  else if (q.picks === 'faces') q.pickFaces(faces, add)
  else if (q.picks === 'points') q.pickPoints(points, add)
  else q.select(q.picks === 'islands' ? islands : objects, add)
}

/** A line was drawn across islands on the table: the edges along it. */
export async function lined(from: THREE.Vector2, to: THREE.Vector2, add: boolean): Promise<void> {
  const q = useQuilt.getState()
  const found = crossed(q.pieces, from, to)
  if (!found.length) return q.say('The line crosses no island. Draw it from one side of an island to the other.')
  q.setPicks('edges')
  if (!add) q.pickNothing()
  for (const { edge, line } of found) await useQuilt.getState().pickMore('line', edge, true, line)
}
