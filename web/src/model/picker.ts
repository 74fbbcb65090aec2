import * as THREE from 'three'
import type { Piece } from '../scene/pieces'

const VERTEX = /* glsl */ `
  in float number;
  flat out float id;
  void main() {
    id = number;
    gl_Position = projectionMatrix * modelViewMatrix * vec4(position, 1.0);
  }
`
const FRAGMENT = /* glsl */ `
  flat in float id;
  uniform float piece;
  out vec4 colour;
  void main() {
    float n = id + 1.0;
    colour = vec4(mod(n, 256.0), mod(floor(n / 256.0), 256.0), floor(n / 65536.0), piece) / 255.0;
  }
`

/**
 * Which triangle is under a place, told by the graphics card: the scene is drawn into one pixel with a number for every triangle, so it
 * costs the same with a thousand triangles and a million.
 */
export class Picker {
  private readonly target = new THREE.WebGLRenderTarget(1, 1, {
    magFilter: THREE.NearestFilter,
    minFilter: THREE.NearestFilter,
  })
  private readonly scene = new THREE.Scene()
  private readonly meshes = new Map<Piece, THREE.Mesh<THREE.BufferGeometry, THREE.ShaderMaterial>>()

  constructor(private readonly renderer: THREE.WebGLRenderer) {}

  setPieces(pieces: Piece[]): void {
    for (const [p, mesh] of this.meshes)
      if (!pieces.includes(p)) {
        this.scene.remove(mesh)
        mesh.geometry.dispose()
        mesh.material.dispose()
        this.meshes.delete(p)
      }
    pieces.forEach((p, n) => {
      const mesh = this.meshes.get(p)
      if (mesh) mesh.material.uniforms.piece.value = n + 1
    })
  }

  /** The triangle at a place of the picture in pixels, or null. `hidden`: pieces and triangles that do not count. */
  at(
    pieces: Piece[],
    camera: THREE.PerspectiveCamera,
    x: number,
    y: number,
    w: number,
    h: number,
  ): [Piece, number] | null {
    pieces.forEach((p, n) => {
      if (!this.meshes.has(p)) this.add(p, n + 1)
    })
    const before = this.renderer.getRenderTarget()
    const colour = this.renderer.getClearColor(new THREE.Color())
    const alpha = this.renderer.getClearAlpha()
    camera.setViewOffset(w, h, x, y, 1, 1)
    this.renderer.setRenderTarget(this.target)
    this.renderer.setClearColor(0, 0)
    this.renderer.clear()
    this.renderer.render(this.scene, camera)
    const out = new Uint8Array(4)
    this.renderer.readRenderTargetPixels(this.target, 0, 0, 1, 1, out)
    camera.clearViewOffset()
    this.renderer.setRenderTarget(before)
    this.renderer.setClearColor(colour, alpha)
    const number = out[0] + 256 * out[1] + 65536 * out[2] - 1
    const piece = pieces[out[3] - 1]
    return piece && number >= 0 ? [piece, number] : null
  }

  private add(p: Piece, number: number): void {
    const { index, position } = p.data
    const corners = new Float32Array(3 * index.length)
    const numbers = new Float32Array(index.length)
    for (let k = 0; k < index.length; k++) {
      corners.set(position.subarray(3 * index[k], 3 * index[k] + 3), 3 * k)
      numbers[k] = Math.floor(k / 3)
    }
    const geometry = new THREE.BufferGeometry()
    geometry.setAttribute('position', new THREE.BufferAttribute(corners, 3))
    geometry.setAttribute('number', new THREE.BufferAttribute(numbers, 1))
    const material = new THREE.ShaderMaterial({
      glslVersion: THREE.GLSL3,
      vertexShader: VERTEX,
      fragmentShader: FRAGMENT,
      side: THREE.DoubleSide,
      // What is read back is a number, not a colour.
      toneMapped: false,
      blending: THREE.NoBlending,
      uniforms: { piece: { value: number } },
    })
    const mesh = new THREE.Mesh(geometry, material)
    mesh.frustumCulled = false
    this.meshes.set(p, mesh)
    this.scene.add(mesh)
  }

  dispose(): void {
    this.setPieces([])
    this.target.dispose()
  }
}
