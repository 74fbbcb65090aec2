import type { Under } from '../store/hand'
import { Ring } from './ring'

/** What a picture has to know of the brush. */
export interface BrushHand {
  /** Whether drags brush now. */
  on: () => boolean
  size: () => number
  strength: () => number
  change: (size: number, strength: number) => void
  stroke: (phase: 'begin' | 'move' | 'end', under: Under | null) => void
}

const LEAST = 4 // px
const MOST = 400

/** Drags brush over a picture; the wheel with Shift makes the brush larger or smaller, with Alt stronger or weaker. */
export function brushing(
  host: HTMLElement,
  element: HTMLElement,
  hand: BrushHand,
  under: (e: PointerEvent) => Under | null,
): () => void {
  const ring = new Ring(host)
  let stroking = false
  let last: { clientX: number; clientY: number } | null = null
  const draw = () => {
    if (!last || !hand.on()) return ring.hide()
    const box = host.getBoundingClientRect()
    ring.show(last.clientX - box.left, last.clientY - box.top, hand.size(), hand.strength())
  }
  const down = (e: PointerEvent) => {
    if (!hand.on() || e.button !== 0 || e.shiftKey) return
    e.stopImmediatePropagation()
    const found = under(e)
    if (!found) return
    element.setPointerCapture(e.pointerId)
    stroking = true
    hand.stroke('begin', found)
  }
  const move = (e: PointerEvent) => {
    last = e
    draw()
    if (!stroking) return
    e.stopImmediatePropagation()
    hand.stroke('move', under(e))
  }
  const up = (e: PointerEvent) => {
    if (!stroking) return
    e.stopImmediatePropagation()
    stroking = false
    hand.stroke('end', null)
  }
  const wheel = (e: WheelEvent) => {
    if (!hand.on() || !(e.shiftKey || e.altKey)) return
    e.preventDefault()
    e.stopImmediatePropagation()
    // With Shift some programs turn the wheel's other axis.
    const step = -Math.sign(e.deltaY || e.deltaX)
    if (e.shiftKey) hand.change(Math.min(MOST, Math.max(LEAST, hand.size() * 1.15 ** step)), hand.strength())
    else hand.change(hand.size(), Math.min(1, Math.max(0.05, hand.strength() + 0.05 * step)))
    draw()
  }
  const leave = () => {
    last = null
    if (!stroking) ring.hide()
  }
  element.addEventListener('pointerdown', down, { capture: true })
  element.addEventListener('pointermove', move, { capture: true })
  element.addEventListener('pointerup', up, { capture: true })
  element.addEventListener('pointercancel', up, { capture: true })
  element.addEventListener('wheel', wheel, { capture: true, passive: false })
  element.addEventListener('pointerleave', leave)
  return () => ring.dispose()
}
