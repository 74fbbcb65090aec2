import * as THREE from 'three'

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
