import * as THREE from 'three'
import { placeOf, tilesOf, type Flat } from '../scene/sheets'
import { drawn } from '../colours'

/** Pictures under tiles, by tile number. */
export type Pictures = Map<number, THREE.Texture>

const AROUND = [-1, 0, 1].flatMap((x) => [-1, 0, 1].filter((y) => x || y).map((y) => [x, y]))

/** The tiles' cloth squares with the pictures that lie on them. */
export class TileSquares extends THREE.Group {
  private flat: Flat | null = null
  colours = drawn(false)

  /** Lay out the tiles of a sheet; `dim`: 0 shows a picture in full, 1 only the cloth. */
  show(flat: Flat, pictures: Pictures, dim: number, tiled = false): void {
    this.flat = flat
    this.dispose()
    for (const tile of tilesOf(flat.sheet)) {
      const [column, row] = placeOf(tile)
      this.add(square(column, row, new THREE.MeshBasicMaterial({ color: this.colours.cloth, depthTest: false }), -3))
      const map = pictures.get(tile)
      if (map) {
        const material = new THREE.MeshBasicMaterial({ map, depthTest: false, transparent: true, opacity: 1 - dim })
        this.add(square(column, row, material, -2.5))
        const more = { map, depthTest: false, transparent: true, opacity: 0.55 * (1 - dim) }
        // Of one tile the picture goes on all around; several have pictures of their own beside them.
        for (const [x, y] of tiled && flat.sheet.columns * flat.sheet.rows === 1 ? AROUND : [])
          this.add(square(column + x, row + y, new THREE.MeshBasicMaterial(more), -2.6))
      }
    }
  }

  /** How far the tiles reach. */
  get reach(): THREE.Box2 {
    const { columns, rows } = this.flat?.sheet ?? { columns: 1, rows: 1 }
    return new THREE.Box2(new THREE.Vector2(0, 0), new THREE.Vector2(columns, rows))
  }

  dispose(): void {
    for (const c of this.children as THREE.Mesh<THREE.PlaneGeometry, THREE.MeshBasicMaterial>[]) {
      c.geometry.dispose()
      c.material.dispose()
    }
    this.clear()
  }
}

function square(column: number, row: number, material: THREE.Material, order: number): THREE.Mesh {
  const mesh = new THREE.Mesh(new THREE.PlaneGeometry(1, 1), material)
  mesh.position.set(column + 0.5, row + 0.5, 0)
  mesh.renderOrder = order
  return mesh
}
