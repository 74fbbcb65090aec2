import * as THREE from 'three'
import { NO_ISLAND } from '../scene/geometry'
import type { Piece } from '../scene/pieces'
import type { Under } from '../store/hand'

/**
 * Where a place of the picture (-1 to 1) lies on a triangle, in the UVs of its island; and a radius, given as a share of the picture's height,
 * as it is there. Null for a triangle without UVs, or that is seen edge on.
 */
export function onSurface(
  piece: Piece,
  triangle: number,
  camera: THREE.PerspectiveCamera,
  place: THREE.Vector2,
  share: number,
): Under | null {
  const { index, position, uv, island } = piece.data
  const v = [0, 1, 2].map((k) => index[3 * triangle + k])
  if (island[v[0]] === NO_ISLAND) return null
  const [a, b, c] = v.map((k) => new THREE.Vector3().fromArray(position, 3 * k))
  const ray = new THREE.Raycaster()
  ray.setFromCamera(place, camera)
  const at = ray.ray.intersectPlane(new THREE.Plane().setFromCoplanarPoints(a, b, c), new THREE.Vector3())
  const weight = at && THREE.Triangle.getBarycoord(at, a, b, c, new THREE.Vector3())
  if (!at || !weight) return null
  const [p, q, r] = v.map((k) => new THREE.Vector2().fromArray(uv, 2 * k))
  const own = p.clone().multiplyScalar(weight.x).addScaledVector(q, weight.y).addScaledVector(r, weight.z)
  const flat = Math.abs(q.clone().sub(p).cross(r.clone().sub(p)))
  const solid = b.clone().sub(a).cross(c.clone().sub(a)).length()
  const far = at.clone().sub(camera.position).dot(camera.getWorldDirection(new THREE.Vector3()))
  const high = 2 * far * Math.tan(THREE.MathUtils.degToRad(camera.fov / 2))
  const radius = share * high * Math.sqrt(flat / Math.max(solid, 1e-30))
  return radius > 0 ? { piece, object: piece.objectOf[v[0]], island: island[v[0]], at: [own.x, own.y], radius } : null
}
