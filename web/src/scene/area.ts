import * as THREE from 'three'
import { edgeAt, faceAt, isInside, pointAt, type Edge, type Face, type Point } from './edges'
import { NO_ISLAND } from './geometry'
import { holds } from './flat'
import type { Piece } from './pieces'

/** What a box or a lasso on the model took, of every grain. */
export interface Caught {
  edges: Edge[]
  faces: Face[]
  points: Point[]
  islands: string[]
  objects: string[]
}

/** How the model is looked at: the camera, the size of the picture, how large the objects are, and how far away what is seen is at each pixel (row by row
 * from the top, 0 for nothing), or null where what is hidden counts too. */
export interface Sight {
  camera: THREE.PerspectiveCamera
  width: number
  height: number
  radius: number
  far: Float32Array | null
}

const SLACK = 0.004 // of the radius: how far behind what is seen at a pixel a place may lie and still be seen
const MOST = 60_000 // edges and faces each: with more the page would stand still

/** What lies in an area of the picture: triangles and edges by their middles. */
export function caughtIn(pieces: Piece[], line: THREE.Vector2[], sight: Sight): Caught {
  const out = { edges: [] as Edge[], faces: [] as Face[], points: [] as Point[] }
  const islands = new Set<string>()
  const objects = new Set<string>()
  const around = new THREE.Box2().setFromPoints(line)
  const at = new THREE.Vector2()
  const seen = seenBy(sight)
  const placed = new THREE.Vector3()
  const { camera, width, height } = sight
  const whole = camera.projectionMatrix.clone().multiply(camera.matrixWorldInverse)
  const inside = (p: THREE.Vector3) => {
    placed.copy(p).applyMatrix4(whole)
    at.set(((placed.x + 1) / 2) * width, ((1 - placed.y) / 2) * height)
    return Math.abs(placed.z) <= 1 && around.containsPoint(at) && holds(line, at)
  }
  const corner = [0, 1, 2].map(() => new THREE.Vector3())
  const middle = new THREE.Vector3()
  for (const p of pieces) {
    const { index, position, island } = p.data
    for (let t = 0; 3 * t < index.length; t++) {
      const v = index[3 * t]
      if (p.hidden(p.objectOf[v])) continue
      corner.forEach((c, k) => c.fromArray(position, 3 * index[3 * t + k]))
      middle.copy(corner[0]).add(corner[1]).add(corner[2]).divideScalar(3)
      const front = () => facing(corner, camera)
      if (inside(middle) && seen(middle, at, front)) {
        if (out.faces.length < MOST) out.faces.push(faceAt(p, t)!)
        objects.add(`${p.file}/${p.objectOf[v]}`)
        if (island[v] !== NO_ISLAND) islands.add(`${p.file}:${island[v]}`)
      }
      for (let k = 0; k < 3 && out.points.length < MOST; k++)
        if (inside(corner[k]) && seen(corner[k], at, front)) out.points.push(pointAt(p, t, k)!)
      for (let side = 0; side < 3 && out.edges.length < MOST; side++) {
        if (isInside(p, t, side)) continue
        middle.lerpVectors(corner[side], corner[(side + 1) % 3], 0.5)
        if (inside(middle) && seen(middle, at, front)) out.edges.push(edgeAt(p, t, side)!)
      }
    }
  }
  return { ...out, islands: [...islands], objects: [...objects] }
}

/** Whether a triangle is wound the usual way round as it is looked at. */
function facing([a, b, c]: THREE.Vector3[], camera: THREE.Camera): boolean {
  const normal = b.clone().sub(a).cross(c.clone().sub(a))
  return normal.dot(camera.position.clone().sub(a)) > 0
}

/** Whether a place at a pixel is seen: it is no farther than what is drawn there or beside it. What faces away has to be what is drawn itself. */
function seenBy({ camera, width, height, radius, far }: Sight) {
  const way = camera.getWorldDirection(new THREE.Vector3())
  return (place: THREE.Vector3, at: THREE.Vector2, front: () => boolean): boolean => {
    if (!far) return true
    const distance = place.clone().sub(camera.position).dot(way)
    let most = 0
    for (let dy = -1; dy <= 1; dy++)
      for (let dx = -1; dx <= 1; dx++) {
        const [x, y] = [Math.floor(at.x) + dx, Math.floor(at.y) + dy]
        if (x >= 0 && y >= 0 && x < width && y < height) most = Math.max(most, far[y * width + x])
      }
    return distance <= most + (front() ? 1 : 0.1) * SLACK * radius
  }
}
