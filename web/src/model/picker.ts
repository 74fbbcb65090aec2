import * as THREE from 'three'
import type { Piece } from '../scene/pieces'

const VERTEX = /* glsl */ `
  in float number;
  in float object;
  uniform sampler2D looks;
  flat out float id;
  out float far;
  void main() {
    id = number;
    vec4 eye = modelViewMatrix * vec4(position, 1.0);
    far = -eye.z;
    bool hidden = texelFetch(looks, ivec2(int(object + 0.5), 0), 0).a < 0.5;
    gl_Position = hidden ? vec4(2.0, 2.0, 2.0, 1.0) : projectionMatrix * eye;
  }
`
const FRAGMENT = /* glsl */ `
  flat in float id;
  in float far;
  uniform float piece;
  uniform bool distances;
  out vec4 colour;
  void main() {
    if (distances) {
      uint bits = floatBitsToUint(far);
      colour = vec4(uvec4(bits, bits >> 8u, bits >> 16u, bits >> 24u) & 255u) / 255.0;
      return;
    }
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

  /** The triangle at a place of the picture in pixels, or null. */
  at(
    pieces: Piece[],
    camera: THREE.PerspectiveCamera,
    x: number,
    y: number,
    w: number,
    h: number,
  ): [Piece, number] | null {
    camera.setViewOffset(w, h, x, y, 1, 1)
    const out = this.read(pieces, camera, this.target, false)
    camera.clearViewOffset()
    const number = out[0] + 256 * out[1] + 65536 * out[2] - 1
    const piece = pieces[out[3] - 1]
    return piece && number >= 0 ? [piece, number] : null
  }

  /** How far along the view what is seen is at each pixel, row by row from the top; 0 for nothing. */
  distances(pieces: Piece[], camera: THREE.PerspectiveCamera, w: number, h: number): Float32Array {
    const target = new THREE.WebGLRenderTarget(w, h, { magFilter: THREE.NearestFilter, minFilter: THREE.NearestFilter })
    const found = new Float32Array(this.read(pieces, camera, target, true).buffer)
    target.dispose()
    // What is read begins with the lowest row.
    const out = new Float32Array(w * h)
    for (let y = 0; y < h; y++) out.set(found.subarray((h - 1 - y) * w, (h - y) * w), y * w)
    return out
  }

  /** The four bytes of every pixel of a picture of numbers or distances. */
  private read(pieces: Piece[], camera: THREE.Camera, target: THREE.WebGLRenderTarget, far: boolean): Uint8Array {
    pieces.forEach((p, n) => {
      if (!this.meshes.has(p)) this.add(p, n + 1)
    })
    for (const mesh of this.meshes.values()) mesh.material.uniforms.distances.value = far
    const before = this.renderer.getRenderTarget()
    const colour = this.renderer.getClearColor(new THREE.Color())
    const alpha = this.renderer.getClearAlpha()
    this.renderer.setRenderTarget(target)
    this.renderer.setClearColor(0, 0)
    this.renderer.clear()
    this.renderer.render(this.scene, camera)
    const out = new Uint8Array(4 * target.width * target.height)
    this.renderer.readRenderTargetPixels(target, 0, 0, target.width, target.height, out)
    this.renderer.setRenderTarget(before)
    this.renderer.setClearColor(colour, alpha)
    return out
  }

  private add(p: Piece, number: number): void {
    const { index, position } = p.data
    const corners = new Float32Array(3 * index.length)
    const numbers = new Float32Array(index.length)
    const objects = new Float32Array(index.length)
    for (let k = 0; k < index.length; k++) {
      corners.set(position.subarray(3 * index[k], 3 * index[k] + 3), 3 * k)
      numbers[k] = Math.floor(k / 3)
      objects[k] = p.objectOf[index[k]]
    }
    const geometry = new THREE.BufferGeometry()
    geometry.setAttribute('position', new THREE.BufferAttribute(corners, 3))
    geometry.setAttribute('number', new THREE.BufferAttribute(numbers, 1))
    geometry.setAttribute('object', new THREE.BufferAttribute(objects, 1))
    const material = new THREE.ShaderMaterial({
      glslVersion: THREE.GLSL3,
      vertexShader: VERTEX,
      fragmentShader: FRAGMENT,
      side: THREE.DoubleSide,
      // What is read back is a number, not a colour.
      toneMapped: false,
      blending: THREE.NoBlending,
      uniforms: { piece: { value: number }, looks: { value: p.looks }, distances: { value: false } },
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
