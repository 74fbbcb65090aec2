import * as THREE from 'three'
import { describe, expect, it } from 'vitest'
import { Owner } from '../scene/owner'
import { squares } from '../testing'
import { Layers } from './layers'

const materials = (layers: Layers) =>
  (layers.children as THREE.Mesh<THREE.BufferGeometry, THREE.ShaderMaterial>[]).map((m) => m.material)

describe('layers of the table', () => {
  const made = () => {
    const layers = new Layers(new Owner())
    layers.set([squares(1, [[0, 0, 0.2]]), squares(2, [[0.5, 0.5, 0.2]])])
    return layers
  }

  it('draw the edges between faces when they are asked for, each file once, and look as they did', () => {
    const layers = made()
    layers.put('density', 1)
    layers.put('opacity', 0.3)
    expect(layers.children).toHaveLength(6)
    for (let turn = 0; turn < 2; turn++) {
      layers.showWires(true)
      expect(layers.children).toHaveLength(8)
      expect(layers.children.filter((c) => c instanceof THREE.LineSegments && c.visible)).toHaveLength(2)
      layers.showWires(false)
      expect(layers.children.filter((c) => c instanceof THREE.LineSegments && c.visible)).toHaveLength(0)
    }
    const patches = materials(layers).filter((m) => 'density' in m.uniforms)
    expect(patches.map((m) => [m.uniforms.density.value, m.uniforms.opacity.value])).toEqual(Array(6).fill([1, 0.3]))
  })

  it('draw them of other files too, while they are shown', () => {
    const layers = made()
    layers.showWires(true)
    layers.set([squares(3, [[0, 0, 0.2]])])
    expect(layers.children.filter((c) => c instanceof THREE.LineSegments && c.visible)).toHaveLength(1)
  })

  it('leave the padding out where it is thinner than a pixel', () => {
    const layers = made()
    const zones = () => materials(layers).filter((m) => m.userData.zone)
    layers.fit(0.001, 4, 0.002)
    expect(zones().map((m) => m.visible)).toEqual([true, true])
    layers.fit(0.01, 4, 0.002)
    expect(zones().map((m) => m.visible)).toEqual([false, false])
  })
})
