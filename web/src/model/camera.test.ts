import * as THREE from 'three'
import { expect, it } from 'vitest'
import { nearest } from './camera'

it('all points are in the picture, and fill it one way', () => {
  const points = [-1, -2, -6, 3, 1, 1, 0, 4, 2, 2, -3, 0, 1, 1, -5]
  const place = new THREE.Vector3(1, 0.5, -2)
  for (const aspect of [0.5, 1, 2.3])
    for (const way of [new THREE.Vector3(0.45, 0.5, 1).normalize(), new THREE.Vector3(0, 0, 1)]) {
      const camera = new THREE.PerspectiveCamera(40, aspect, 0.01, 1000)
      camera.position.copy(place).add(way.clone().multiplyScalar(nearest(points, place, way, camera, aspect)))
      camera.lookAt(place)
      camera.updateMatrixWorld()
      let most = 0
      for (let k = 0; k < points.length; k += 3) {
        const p = new THREE.Vector3().fromArray(points, k).project(camera)
        most = Math.max(most, Math.abs(p.x), Math.abs(p.y))
      }
      expect(most).toBeCloseTo(0.94, 6)
    }
})
