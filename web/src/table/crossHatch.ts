import * as THREE from 'three'
import { CROSS } from './shaders'

/** The hatching over what more than one patch covers: a square over all of the picture, drawn where the stencil counted two. */
export function crossHatch(): THREE.Mesh {
  const material = new THREE.ShaderMaterial({
    glslVersion: THREE.GLSL3,
    vertexShader: 'void main() { gl_Position = vec4(position.xy, 0.0, 1.0); }',
    fragmentShader: CROSS,
    depthTest: false,
    transparent: true,
    stencilWrite: true,
    stencilFunc: THREE.LessStencilFunc,
    stencilRef: 1,
    stencilWriteMask: 0,
  })
  const mesh = new THREE.Mesh(new THREE.PlaneGeometry(2, 2), material)
  mesh.frustumCulled = false
  mesh.renderOrder = 0.5
  return mesh
}
