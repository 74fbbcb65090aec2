import * as THREE from 'three'
import { themed } from '../colours'

const STILL = 4 // pixels: less is a click

export interface Gesture {
  /** A box or a line was drawn around something, in pixels of the picture. */
  done: (line: THREE.Vector2[], add: boolean) => void
  /** Whether one is being drawn: then the pointer does nothing else. */
  busy: (drawing: boolean) => void
}

/** Shift and a drag draw a box over a picture, with Alt a line that closes itself. */
export function drawnAround(host: HTMLElement, element: HTMLElement, { done, busy }: Gesture): () => void {
  const svg = document.createElementNS('http://www.w3.org/2000/svg', 'svg')
  Object.assign(svg.style, { position: 'absolute', inset: '0', width: '100%', height: '100%', pointerEvents: 'none' })
  const shape = document.createElementNS('http://www.w3.org/2000/svg', 'polygon')
  Object.assign(shape.style, { fill: themed('indigo'), stroke: themed('indigo') })
  const look = {
    'fill-opacity': '0.12',
    'stroke-width': '1.5',
    'stroke-dasharray': '5 3',
  }
  for (const [name, value] of Object.entries(look)) shape.setAttribute(name, value)
  svg.append(shape)
  host.append(svg)
  let line: THREE.Vector2[] | null = null
  let lasso = false

  const at = (e: PointerEvent) => {
    const box = host.getBoundingClientRect()
    return new THREE.Vector2(e.clientX - box.left, e.clientY - box.top)
  }
  const corners = (): THREE.Vector2[] => {
    if (!line || lasso) return line ?? []
    const [a, b] = [line[0], line[line.length - 1]]
    return [a, new THREE.Vector2(b.x, a.y), b, new THREE.Vector2(a.x, b.y)]
  }
  const draw = () =>
    shape.setAttribute(
      'points',
      corners()
        .map((p) => `${p.x},${p.y}`)
        .join(' '),
    )
  const end = () => {
    line = null
    draw()
    busy(false)
  }
  const down = (e: PointerEvent) => {
    if (e.button !== 0 || !e.shiftKey) return
    line = [at(e)]
    lasso = e.altKey
    busy(true)
    element.setPointerCapture(e.pointerId)
  }
  const move = (e: PointerEvent) => {
    if (!line) return
    line.push(at(e))
    draw()
  }
  const up = (e: PointerEvent) => {
    if (!line) return
    const found = corners()
    const far = line[0].distanceTo(at(e)) > STILL || (lasso && line.length > 2)
    end()
    if (far && found.length > 2) done(found, e.ctrlKey || e.metaKey)
  }
  // Before anything else that a drag does.
  element.addEventListener('pointerdown', down, { capture: true })
  element.addEventListener('pointermove', move)
  element.addEventListener('pointerup', up)
  element.addEventListener('pointercancel', end)
  return () => svg.remove()
}
