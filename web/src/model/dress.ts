import * as THREE from 'three'
import type { Owner } from '../scene/owner'
import type { Piece } from '../scene/pieces'
import { loadPicture } from '../scene/pictures'
import { checker } from './checker'
import { FRAGMENT, LOOKS, VERTEX, type Look } from './shaders'

/** New pictures beside the old ones. */
export interface After {
  fresh: THREE.Texture
  reach: [number, number]
  tints: (file: number) => (readonly [number, number, number])[]
  /** Whether materials multiply the new pictures as they did the old ones. */
  kept: boolean
}

type Worn = THREE.Mesh<THREE.BufferGeometry, THREE.Material | THREE.Material[]>

/** What the objects of a model wear: checker, cloth, density, the pictures of tiles or of their own materials. */
export class Dress {
  /** A mesh for each file. */
  readonly content = new THREE.Group()
  private readonly pattern: THREE.Texture
  private readonly white: THREE.DataTexture
  private pieces: Piece[] = []
  private wipe = 0
  private tiled = false
  private shown = 0

  constructor(
    private readonly owned: Owner,
    private readonly draw: () => void,
  ) {
    this.pattern = owned.own('view', checker())
    this.white = owned.own('view', new THREE.DataTexture(new Uint8Array([255, 255, 255, 255]), 1, 1))
    this.white.needsUpdate = true
  }

  setPieces(pieces: Piece[]): void {
    this.pieces = pieces
    this.content.clear()
    this.owned.release('dress')
    for (const p of pieces) this.content.add(new THREE.Mesh(p.geometry, this.material(p)))
  }

  private material(p: Piece): THREE.ShaderMaterial {
    const material = new THREE.ShaderMaterial({
      glslVersion: THREE.GLSL3,
      vertexShader: VERTEX,
      fragmentShader: FRAGMENT,
      side: THREE.DoubleSide,
      uniforms: {
        transforms: { value: p.transforms },
        looks: { value: p.looks },
        pattern: { value: this.pattern },
        picture: { value: this.white },
        reach: { value: new THREE.Vector2(1, 1) },
        painted: { value: 0 },
        fresh: { value: this.white },
        freshReach: { value: new THREE.Vector2(1, 1) },
        tint: { value: new THREE.Vector3(1, 1, 1) },
        freshTint: { value: new THREE.Vector3(1, 1, 1) },
        wipe: { value: this.wipe },
        tiled: { value: this.tiled ? 1 : 0 },
        squares: { value: 32 },
        look: { value: 0 },
        marks: { value: 1 },
        quiet: { value: 0 },
        band: { value: 0.14 },
      },
    })
    return this.owned.own('dress', material)
  }

  private each(set: (u: Record<string, THREE.IUniform>) => void): void {
    for (const mesh of this.content.children as Worn[])
      for (const m of [mesh.material].flat()) set((m as THREE.ShaderMaterial).uniforms)
  }

  /**
   * Dress the objects in the pictures of their own materials: one draw call for each material. `after`: the new pictures beside them, what they
   * reach over, what materials multiply the old ones by, and whether the new ones too.
   */
  setOwn(colours: (file: number) => (string | null)[], after: After | null = null): void {
    const turn = ++this.shown
    this.owned.release('dress')
    this.owned.release('joined')
    if (after) this.owned.own('joined', after.fresh)
    this.content.children.forEach((child, n) => {
      const mesh = child as Worn
      const p = this.pieces[n]
      const shas = colours(p.file)
      const materials = [null, ...shas].map(() => this.material(p))
      mesh.material = materials
      const tints = after?.tints(p.file) ?? []
      for (const [k, m] of materials.entries()) {
        if (!after) break
        const u = m.uniforms
        u.fresh.value = after.fresh
        ;(u.freshReach.value as THREE.Vector2).set(...after.reach)
        if (k) (u.tint.value as THREE.Vector3).set(...tints[k - 1])
        if (k && after.kept) (u.freshTint.value as THREE.Vector3).set(...tints[k - 1])
      }
      shas.forEach((sha, k) => {
        if (!sha) return
        void loadPicture(sha).then((texture) => {
          if (turn !== this.shown) return
          materials[k + 1].uniforms.picture.value = texture
          materials[k + 1].uniforms.painted.value = 1
          this.draw()
        })
      })
    })
  }

  /** One material for each file again; `joined`: the pictures under the tiles, which reach over `reach` tiles. */
  setPlain(joined: THREE.Texture | null, reach: [number, number]): void {
    this.shown++
    this.owned.release('joined')
    if (joined) this.owned.own('joined', joined)
    const meshes = this.content.children as Worn[]
    if (meshes.some((m) => Array.isArray(m.material))) {
      this.owned.release('dress')
      meshes.forEach((m, n) => (m.material = this.material(this.pieces[n])))
    }
    this.each((u) => {
      u.picture.value = joined ?? this.white
      u.painted.value = joined ? 1 : 0
      ;(u.reach.value as THREE.Vector2).set(...reach)
    })
  }

  /** Where the old paint ends and the new begins, in px of the canvas. */
  setWipe(px: number): void {
    this.wipe = px
    this.each((u) => (u.wipe.value = this.wipe))
    this.draw()
  }

  /** Whether the pictures of the tiles go on beyond them. */
  setTiled(on: boolean): void {
    this.tiled = on
    this.each((u) => (u.tiled.value = on ? 1 : 0))
    this.draw()
  }

  /** Which of them; `squares` checker squares across the map, `band` in doublings. */
  setLook(look: Look, squares: number, band: number, marks: boolean): void {
    this.each((u) => {
      u.look.value = LOOKS[look]
      u.squares.value = squares
      u.band.value = band
      u.marks.value = marks ? 1 : 0
    })
    this.draw()
  }

  /** Whether it stands back, so that what is picked is seen over it. */
  setQuiet(on: boolean): void {
    this.each((u) => (u.quiet.value = on ? 1 : 0))
  }
}
