import * as THREE from 'three'
import type { Piece } from '../scene/pieces'

const FILLED = 0.94 // of the picture, by what it is fitted to

/** How near to a place a camera can go, looking at it from one side, with all points (three numbers each) in its picture. */
export function nearest(
  points: ArrayLike<number>,
  place: THREE.Vector3,
  way: THREE.Vector3,
  camera: THREE.PerspectiveCamera,
  aspect: number,
): number {
  const high = FILLED * Math.tan((camera.fov * Math.PI) / 360)
  const right = new THREE.Vector3().crossVectors(camera.up, way).normalize()
  const up = new THREE.Vector3().crossVectors(way, right)
  const p = new THREE.Vector3()
  let least = 0
  for (let k = 0; k + 2 < points.length; k += 3) {
    p.set(points[k], points[k + 1], points[k + 2]).sub(place)
    const [x, y] = [Math.abs(p.dot(right)), Math.abs(p.dot(up))]
    least = Math.max(least, p.dot(way) + Math.max(x / (high * aspect), y / high))
  }
  return least
}

/** Places of vertices of some kind, three numbers each. */
export function placesOf(pieces: Piece[], which: (p: Piece, vertex: number) => boolean): number[] {
  const out: number[] = []
  for (const p of pieces) {
    const { position } = p.data
    for (let v = 0; 3 * v < position.length; v++)
      if (which(p, v)) out.push(position[3 * v], position[3 * v + 1], position[3 * v + 2])
  }
  return out
}

/** A sphere around points, from the middle of their box. */
export function sphereOf(points: number[]): THREE.Sphere {
  const box = new THREE.Box3().setFromArray(points)
  return box.getBoundingSphere(new THREE.Sphere())
}

/** Put a camera where it sees all points from one side, as near as it can; where it has to look then, or null without any points. */
export function stand(
  camera: THREE.PerspectiveCamera,
  points: number[],
  from: THREE.Vector3,
  aspect: number,
): THREE.Vector3 | null {
  if (!points.length) return null
  const { center, radius } = sphereOf(points)
  const way = from.clone().normalize()
  const distance = Math.max(1e-6, radius, nearest(points, center, way, camera, aspect))
  camera.near = distance / 100
  camera.far = distance * 20
  camera.position.copy(center).add(way.multiplyScalar(distance))
  return center
}
