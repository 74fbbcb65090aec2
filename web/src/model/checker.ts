import * as THREE from 'three'
import { COLOURS } from '../colours'

const LETTERS = 'QUILTFRAYSEWNGPJ'
const CLOTHS = [COLOURS.checkerLight, COLOURS.checkerDark, COLOURS.checkerLightAlt, COLOURS.checkerDarkAlt]

/** Our checker: sixteen plain patches, each with a letter that reads wrongly when it is mirrored, sewn at the edges. */
export function checker(): THREE.Texture {
  const size = 512
  const step = size / 4
  const canvas = document.createElement('canvas')
  canvas.width = canvas.height = size
  const pen = canvas.getContext('2d')!
  for (let i = 0; i < 16; i++) {
    const x = (i % 4) * step
    const y = Math.floor(i / 4) * step
    pen.fillStyle = CLOTHS[((i % 4) + Math.floor(i / 4)) % 2 ? 1 + 2 * (i % 2) : 2 * (i % 2)]
    pen.fillRect(x, y, step, step)
    pen.fillStyle = COLOURS.checkerInk
    pen.font = `600 ${step * 0.5}px "Figtree Variable", sans-serif`
    pen.textAlign = 'center'
    pen.textBaseline = 'middle'
    pen.fillText(LETTERS[i], x + step / 2, y + step / 2)
    pen.strokeStyle = COLOURS.guide
    pen.setLineDash([step / 10, step / 14])
    pen.strokeRect(x + 3, y + 3, step - 6, step - 6)
  }
  const texture = new THREE.CanvasTexture(canvas)
  texture.wrapS = texture.wrapT = THREE.RepeatWrapping
  texture.anisotropy = 4
  return texture
}
