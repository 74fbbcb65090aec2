import type { State } from '../api/client'
import { objectOf } from '../scene/objects'
import { boxOf, segments } from '../scene/outlines'
import type { Hit, Piece } from '../scene/pieces'
import { perMetre, plain } from '../words'

/** What lies under the pointer: object and island, its size in px of its tile, and its density. */
export function named(state: State, pieces: Piece[], hit: Hit): string {
  const piece = pieces.find((p) => p.file === hit.file)
  const { island } = hit
  if (!piece || island === null) return ''
  const object = objectOf(state, `${hit.file}:${island}`)
  if (!object) return ''
  const box = boxOf(segments(piece, island))
  const px = (n: number) => plain(n * piece.px[island], 3)
  const size = box.isEmpty() ? '' : `${px(box.max.x - box.min.x)} × ${px(box.max.y - box.min.y)} px, `
  return `${object.name}, island ${island - object.first_island + 1} of ${object.islands}: ${size}${perMetre(piece.density(island))}`
}
