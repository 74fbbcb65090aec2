import * as THREE from 'three'
import { describe, expect, it } from 'vitest'
import { Piece } from '../scene/pieces'
import { stand } from './camera'
import { onSurface } from './surface'

/** A square of 2 m at z = 0 whose UVs are 0.1 wide; its second triangle has none. */
function square(): Piece {
  const data = {
    header: { islands: 1, arrays: [], objects: [{ index: [0, 2], islands: [0, 1], edge: [0, 0], table: true }] },
    position: new Float32Array([0, 0, 0, 2, 0, 0, 2, 2, 0, 0, 0, 0, 2, 2, 0, 0, 2, 0]),
    uv: new Float32Array([0.3, 0.4, 0.4, 0.4, 0.4, 0.5, 0, 0, 0, 0, 0, 0]),
    island: new Uint32Array([0, 0, 0, 0xffffffff, 0xffffffff, 0xffffffff]),
    index: new Uint32Array([0, 1, 2, 3, 4, 5]),
    edge: new Uint32Array(),
  }
  return new Piece(5, data as never, 0)
}

function camera(from: THREE.Vector3): THREE.PerspectiveCamera {
  const c = new THREE.PerspectiveCamera(90, 1, 0.1, 100)
  c.position.copy(from)
  c.lookAt(1.5, 0.5, 0)
  c.updateMatrixWorld()
  return c
}

describe('the brush on the model', () => {
  it('stands where it is seen, as large as it is seen', () => {
    // From 3 m straight above, 90 degrees see 6 m: a twelfth of that is half a metre, and a metre is 0.05 in UV.
    const found = onSurface(square(), 0, camera(new THREE.Vector3(1.5, 0.5, 3)), new THREE.Vector2(0, 0), 1 / 12)!
    expect(found.at[0]).toBeCloseTo(0.375, 6)
    expect(found.at[1]).toBeCloseTo(0.425, 6)
    expect(found.radius).toBeCloseTo(0.025, 6)
    expect([found.object, found.island]).toEqual([0, 0])
  })

  it('moves with the pointer', () => {
    const found = onSurface(square(), 0, camera(new THREE.Vector3(1.5, 0.5, 3)), new THREE.Vector2(0.1, 0), 1 / 12)!
    // A twentieth of 6 m to the right.
    expect(found.at[0]).toBeCloseTo(0.375 + 0.3 * 0.05, 6)
  })

  it('stands nowhere without UVs, or on what is seen edge on', () => {
    const straight = camera(new THREE.Vector3(1.5, 0.5, 3))
    expect(onSurface(square(), 1, straight, new THREE.Vector2(0, 0), 0.1)).toBeNull()
    const along = camera(new THREE.Vector3(9, 0.5, 0))
    expect(onSurface(square(), 0, along, new THREE.Vector2(0, 0.3), 0.1)).toBeNull()
  })
})

describe('where the camera stands', () => {
  it('sees all points from the side that is wished, and nothing needs no place', () => {
    const c = camera(new THREE.Vector3(0, 0, 1))
    const points = [0, 0, 0, 4, 0, 0, 4, 2, 0, 0, 2, 1]
    const place = stand(c, points, new THREE.Vector3(1, 1, 1), 1.5)!
    expect(place.toArray()).toEqual([2, 1, 0.5])
    expect(c.position.clone().sub(place).normalize().x).toBeCloseTo(1 / Math.sqrt(3), 6)
    c.lookAt(place)
    c.aspect = 1.5
    c.updateProjectionMatrix()
    c.updateMatrixWorld()
    for (let k = 0; k < 12; k += 3) {
      const at = new THREE.Vector3().fromArray(points, k).project(c)
      expect(Math.max(Math.abs(at.x), Math.abs(at.y))).toBeLessThanOrEqual(1)
    }
    expect(stand(c, [], new THREE.Vector3(1, 1, 1), 1)).toBeNull()
  })
})
