import type * as THREE from 'three'
import type { Move } from '../scene/hand'
import type { How, Taken } from '../scene/flat'
import type { Edge, Face, Point } from '../scene/edges'
import type { Hit } from '../scene/pieces'
import type { BrushHand } from '../scene/brushing'
import type { Follow } from '../scene/live'

/** What the table tells of the hand on it. */
export interface Events {
  picked: (taken: Taken, how: How) => void
  /** A mark was clicked. */
  marked: (keys: string[]) => void
  /** A box or a line was drawn around edges and faces. */
  caught: (found: { edges: Edge[]; faces: Face[]; points: Point[] }, add: boolean) => void
  /** A straight line was drawn. */
  lined: (from: THREE.Vector2, to: THREE.Vector2, add: boolean) => void
  boxed: (islands: [file: number, island: number][], add: boolean) => void
  /** The selection was dragged or turned to another place. */
  dropped: (move: Move, label: string) => void
  hand: BrushHand
  /** What the pointer rests on; null for nothing. */
  under: (hit: Hit | null) => void
  /** What follows the picked points; null where they cannot be dragged. */
  grab: () => Promise<Follow[] | null>
  /** A number was typed for a drag that took hold of nothing. */
  missed: () => void
  /** They were dragged so far. */
  dragged: (follows: Follow[], by: [u: number, v: number]) => void
}
