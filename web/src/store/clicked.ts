import type { How, Taken } from '../scene/flat'
import type { Caught } from '../scene/area'
import { useQuilt } from '.'

/** A click on the model or the table, by what clicks pick. */
export function clicked({ hit, edge, faces }: Taken, { add, way, twice }: How): void {
  const q = useQuilt.getState()
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
export function caught({ edges, faces, islands, objects }: Caught, add: boolean): void {
  const q = useQuilt.getState()
  if (q.picks === 'edges') q.pickEdges(edges, add)
  else if (q.picks === 'faces') q.pickFaces(faces, add)
  else q.select(q.picks === 'islands' ? islands : objects, add)
}
